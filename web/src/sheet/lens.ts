/** Colour scales of the lenses. */
import { scaleLinear } from 'd3-scale'
import type { Palette } from '../design/tokens'
import { type Bands, DIFFERENCE, DIFFERENCE_BAND } from '../model/prefs'
import { type Declared, idOf, inSmall, lensesOf } from '../model/quantities'
import type { Result } from '../model/results'
import type { Lens } from '../session/store'

export type Hue = (value: number) => string
type Scaled = Pick<Declared, 'table' | 'name' | 'scale' | 'band'>

/** Where the scale of a quantity begins, turns and ends; empty where that is the largest there is. */
export const bandOf = (quantity: Scaled, bands: Bands): readonly number[] =>
  bands[idOf(quantity)] ?? quantity.band ?? []
export const differenceBand = (bands: Bands): readonly number[] => bands[DIFFERENCE] ?? DIFFERENCE_BAND

/** Colours from low to high of a scale. */
export const stopsOf = (palette: Palette, scale: string): readonly string[] =>
  scale === 'voltage' || scale === 'around_zero' ? palette.voltage : palette.loading

export const diverging = (palette: Palette, band: readonly number[]): Hue =>
  scaleLinear<string>().domain(band).range(palette.voltage).clamp(true)

const ramp = (palette: Palette, band: readonly number[]): Hue => {
  const [low = 0, high = 1] = band
  const domain = band.length > 2 ? band : [0, 1, 2, 3].map((i) => low + ((high - low) * i) / 3)
  return scaleLinear<string>().domain(domain).range(palette.loading).clamp(true)
}

const LEAST = 1e-12

/** Something that only grows, in proportion to the largest of all. */
export function upTo(palette: Palette, most: number): Hue {
  const hue = ramp(palette, [0, 1])
  return (value) => hue(Math.max(value, 0) / Math.max(most, LEAST))
}

/** Something around zero, against the largest of all. */
export function around(palette: Palette, most: number): Hue {
  const hue = diverging(palette, [-1, 0, 1])
  return (value) => hue(value / Math.max(most, LEAST))
}

/** How a quantity is coloured; `most`: the largest of all, where its scale has no end of its own. */
export function hueOf(palette: Palette, quantity: Scaled, bands: Bands, most: number): Hue {
  const band = bandOf(quantity, bands)
  if (quantity.scale === 'voltage') return diverging(palette, band)
  if (quantity.scale === 'around_zero') return band.length ? diverging(palette, band) : around(palette, most)
  if (quantity.scale === 'falling') return ramp(palette, [...band].reverse())
  if (band.length) {
    const hue = ramp(palette, band)
    return (value) => hue(Math.abs(value))
  }
  // A few are far larger than the rest: the root tells these apart too.
  const part = ramp(palette, [0, 1])
  return (value) => part(Math.sqrt(Math.max(value, 0) / Math.max(most, LEAST)))
}

/** Lenses beside those of the quantities: before and after them. */
const FIRST = { id: 'both', label: 'voltage & loading' }
const LAST = [
  { id: 'flow', label: 'flow' },
  { id: 'feeder', label: 'feeders' },
  { id: 'area', label: 'areas' },
  { id: 'supply', label: 'supply' },
  { id: 'plain', label: 'none' },
]
const DIFFERS = { id: 'difference', label: 'difference from pinned' }

/** Every lens there is for what is shown now. */
export function lensChoices(
  result: Result | null,
  pinned: boolean,
): readonly { readonly id: Lens; readonly label: string }[] {
  const declared = lensesOf(result).map((q) => ({ id: idOf(q), label: inSmall(q.label) }))
  return [FIRST, ...declared, ...LAST, ...(pinned ? [DIFFERS] : [])]
}
