/** Colour scales of the lenses. */
import { scaleLinear } from 'd3-scale'
import type { Palette } from '../design/tokens'
import type { Bands } from '../model/prefs'

export interface LensColours {
  readonly voltage: (pu: number) => string
  readonly loading: (pct: number) => string
  /** Change of voltage against the pinned result. */
  readonly difference: (pu: number) => string
  /** Something that only grows, against the largest of all. */
  readonly share: (value: number, most: number) => string
  /** The same, in proportion. */
  readonly upTo: (value: number, most: number) => string
  readonly drop: (pct: number) => string
  readonly factor: (cos: number) => string
  /** Something around zero, against the largest of all. */
  readonly around: (value: number, most: number) => string
}

export function lensColours(palette: Palette, bands: Bands): LensColours {
  const diverging = (domain: readonly number[]) =>
    scaleLinear<string>().domain(domain).range(palette.voltage).clamp(true)
  const loading = scaleLinear<string>().domain(bands.loading).range(palette.loading).clamp(true)
  const ramp = ([low, high]: readonly [number, number]) =>
    scaleLinear<string>()
      .domain([0, 1, 2, 3].map((i) => low + ((high - low) * i) / 3))
      .range(palette.loading)
      .clamp(true)
  const part = ramp([0, 1])
  const drop = ramp(bands.drop)
  const factor = ramp([bands.factor[1], bands.factor[0]])
  const around = diverging([-1, 0, 1])
  return {
    voltage: diverging(bands.voltage),
    loading,
    difference: diverging(bands.difference),
    share: (value, most) => part(Math.sqrt(Math.max(value, 0) / Math.max(most, 1e-12))),
    upTo: (value, most) => part(Math.max(value, 0) / Math.max(most, 1e-12)),
    drop: (pct) => drop(Math.abs(pct)),
    factor,
    around: (value, most) => around(value / Math.max(most, 1e-12)),
  }
}
