/** Figures to colours. Voltage diverges about nominal; loading rises from nothing to the rating. */
import { scaleLinear } from 'd3-scale'
import type { Palette } from '../../design/tokens'

export const VOLTAGE_DOMAIN = [0.94, 1, 1.06] as const
export const LOADING_DOMAIN = [0, 50, 80, 100] as const

export const DIFFERENCE_DOMAIN = [-0.03, 0, 0.03] as const

export interface LensColours {
  readonly voltage: (pu: number) => string
  readonly loading: (pct: number) => string
  /** Change of voltage against the pinned result. */
  readonly difference: (pu: number) => string
  /** Losses of a branch against the largest of all. */
  readonly losses: (mw: number, most: number) => string
}

export function lensColours(palette: Palette): LensColours {
  const voltage = scaleLinear<string>().domain(VOLTAGE_DOMAIN).range(palette.voltage).clamp(true)
  const loading = scaleLinear<string>().domain(LOADING_DOMAIN).range(palette.loading).clamp(true)
  const difference = scaleLinear<string>().domain(DIFFERENCE_DOMAIN).range(palette.voltage).clamp(true)
  const losses = (mw: number, most: number) => loading(100 * Math.sqrt(Math.max(mw, 0) / most))
  return { voltage, loading, difference, losses }
}
