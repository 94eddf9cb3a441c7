/** A smooth surface of voltage or loading over the diagram: near figures weigh more. Drawn coarse and scaled up. */
import type { Palette } from '../design/tokens'
import type { Bands } from '../model/prefs'
import { type Declared, standing } from '../model/quantities'
import { figure, type Result, values } from '../model/results'
import type { Lens } from '../session/store'
import type { Point, View } from './geometry'
import { toScreen } from './geometry'
import { type Hue, hueOf } from './lens'
import { lensQuantities } from './paint'
import type { Scene } from './scene'

export const CELL = 8
const REACH = 13 // cells around a figure that it colours

interface Spot {
  readonly at: Point
  readonly value: number
}

export interface Surface {
  readonly columns: number
  readonly rows: number
  /** Value of every cell by rows; NaN where nothing is near. */
  readonly value: Float64Array
  /** How much is known there, 0 to 1. */
  readonly weight: Float64Array
}

/** Values spread over a grid of cells, each weighed by its nearness: a weighted mean, so never beyond its neighbours. */
export function spread(spots: readonly Spot[], width: number, height: number): Surface {
  const columns = Math.ceil(width / CELL)
  const rows = Math.ceil(height / CELL)
  const value = new Float64Array(columns * rows)
  const weight = new Float64Array(columns * rows)
  const sum = new Float64Array(columns * rows)
  for (const { at, value: v } of spots) {
    const cx = at.x / CELL
    const cy = at.y / CELL
    const [left, right] = [Math.max(0, Math.floor(cx - REACH)), Math.min(columns - 1, Math.ceil(cx + REACH))]
    const [top, bottom] = [Math.max(0, Math.floor(cy - REACH)), Math.min(rows - 1, Math.ceil(cy + REACH))]
    for (let y = top; y <= bottom; y++) {
      for (let x = left; x <= right; x++) {
        const far = ((x + 0.5 - cx) ** 2 + (y + 0.5 - cy) ** 2) / (REACH * REACH)
        if (far >= 1) continue
        const w = (1 - far) ** 3
        const i = y * columns + x
        value[i]! += w * v
        sum[i]! += w
        // The nearest figure tells how much is known: the surface fades towards its edges, however many stand together.
        weight[i] = Math.max(weight[i]!, (1 - far) ** 1.6)
      }
    }
  }
  for (let i = 0; i < value.length; i++) {
    value[i] = sum[i]! > 0 ? value[i]! / sum[i]! : Number.NaN
  }
  return { columns, rows, value, weight }
}

/** What a surface is of: the one quantity that the lens shows, else the voltage; and how it is coloured. */
export function surfaceOf(
  lens: Lens,
  result: Result | null,
  palette: Palette,
  bands: Bands,
): { readonly quantity: Declared | undefined; readonly hue: Hue } {
  const shown = lensQuantities(lens, result)
  const quantity = shown.length === 1 ? shown[0] : standing(result, 'voltage')
  if (!quantity) return { quantity, hue: () => palette.quiet }
  const all = values(result?.tables[quantity.table], quantity.name) as (number | null)[]
  const most = all.reduce<number>((m, v) => Math.max(m, Math.abs(v ?? 0)), 0)
  return { quantity, hue: hueOf(palette, quantity, bands, most) }
}

/** Where figures stand on the screen: buses for the voltage, points along branches for the loading. */
export function spotsOf(
  scene: Scene,
  result: Result | null,
  quantity: Declared | undefined,
  view: View,
): Spot[] {
  if (!quantity) return []
  if (quantity.table === 'buses')
    return scene.buses.flatMap((b) => {
      const value = figure(result?.tables.buses, b.id, quantity.name)
      return value === undefined ? [] : [{ at: toScreen(view, b), value }]
    })
  return scene.branches.flatMap((b) => {
    const value = figure(result?.tables.branches, b.id, quantity.name)
    if (value === undefined) return []
    const found: Spot[] = []
    b.points.forEach((p, i) => {
      const q = b.points[i + 1]
      if (!q) return
      const [from, to] = [toScreen(view, p), toScreen(view, q)]
      const steps = Math.max(1, Math.ceil(Math.hypot(to.x - from.x, to.y - from.y) / 30))
      for (let k = 0; k < steps; k++) {
        const t = (k + 0.5) / steps
        found.push({ at: { x: from.x + (to.x - from.x) * t, y: from.y + (to.y - from.y) * t }, value })
      }
    })
    return found
  })
}

/** Paint a surface into a canvas of one pixel a cell. */
export function paintSurface(canvas: HTMLCanvasElement, surface: Surface, hue: Hue) {
  canvas.width = surface.columns
  canvas.height = surface.rows
  const context = canvas.getContext('2d')
  if (!context || !surface.columns || !surface.rows) return
  const picture = context.createImageData(surface.columns, surface.rows)
  surface.value.forEach((v, i) => {
    if (Number.isNaN(v)) return
    const [r = 0, g = 0, b = 0] = (hue(v).match(/\d+/g) ?? []).map(Number)
    picture.data.set([r, g, b, Math.round(surface.weight[i]! * 120)], i * 4)
  })
  context.putImageData(picture, 0, 0)
}
