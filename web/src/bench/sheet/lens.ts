/** Figures to colours. Voltage diverges about nominal; loading rises from nothing to the rating. */
import { scaleLinear } from 'd3-scale'
import type { Palette } from '../../design/tokens'

export const VOLTAGE_DOMAIN = [0.94, 1, 1.06] as const
export const LOADING_DOMAIN = [0, 50, 80, 100] as const

export interface LensColours {
  readonly voltage: (pu: number) => string
  readonly loading: (pct: number) => string
}

export function lensColours(palette: Palette): LensColours {
  const voltage = scaleLinear<string>().domain(VOLTAGE_DOMAIN).range(palette.voltage).clamp(true)
  const loading = scaleLinear<string>().domain(LOADING_DOMAIN).range(palette.loading).clamp(true)
  return { voltage, loading }
}
