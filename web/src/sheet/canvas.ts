/** The canvas painter, for many elements: all that the SVG painter draws, in batches of one stroke style each. */

import type { Palette } from '../design/tokens'
import { PHASE_DASH } from '../model/phases'
import { beside, type Point, type View } from './geometry'
import type { Shapes } from './Painter'
import { type Paint, strandsOf } from './paint'
import type { BranchShape, BusShape, HangShape } from './scene'
import { branchSymbols, hangSymbols } from './symbols'

export interface Look {
  readonly palette: Palette
  readonly symbolScale: number
  readonly apart: number
  readonly showFlow: boolean
}

/** Pixels below which a symbol is not worth its ink. */
const LEAST_SYMBOL = 2.5

interface Style {
  readonly stroke: string
  readonly width: number
  readonly dash: string
  readonly fill: string
}

/** Paths by style, stroked in the order in which the styles came up. */
class Batches {
  private readonly paths = new Map<string, { style: Style; path: Path2D }>()

  of(stroke: string, width: number, dash = '', fill = ''): Path2D {
    const key = `${stroke}|${width}|${dash}|${fill}`
    const found = this.paths.get(key)
    if (found) return found.path
    const path = new Path2D()
    this.paths.set(key, { style: { stroke, width, dash, fill }, path })
    return path
  }

  draw(context: CanvasRenderingContext2D) {
    for (const { style, path } of this.paths.values()) {
      context.strokeStyle = style.stroke
      context.lineWidth = style.width
      context.setLineDash(style.dash ? style.dash.split(' ').map(Number) : [])
      if (style.fill) {
        context.fillStyle = style.fill
        context.fill(path)
      }
      context.stroke(path)
    }
    context.setLineDash([])
  }
}

const glyphs = new Map<string, Path2D>()

function glyph(data: string): Path2D {
  const found = glyphs.get(data)
  if (found) return found
  const made = new Path2D(data)
  glyphs.set(data, made)
  return made
}

export function paintCanvas(
  context: CanvasRenderingContext2D,
  shapes: Shapes,
  paint: Paint,
  view: View,
  size: { readonly width: number; readonly height: number },
  look: Look,
) {
  const ratio = devicePixelRatio || 1
  context.setTransform(ratio, 0, 0, ratio, 0, 0)
  context.clearRect(0, 0, size.width, size.height)
  context.lineJoin = 'round'
  const lines = new Batches()
  const gaps = new Batches()
  const signs = new Batches()
  const bars = new Batches()
  const thin = view.k < 0.25 ? 1.2 : 1.7
  for (const branch of shapes.branches) drawBranch(branch, { lines, gaps, signs }, paint, view, look, thin)
  for (const hang of shapes.hangs) drawHang(hang, lines, signs, paint, view, look)
  for (const bus of shapes.buses) drawBar(bus, bars, paint, view, look.palette)
  for (const layer of [lines, gaps, signs, bars]) layer.draw(context)
}

function trace(path: Path2D, points: readonly Point[], { k, x, y }: View) {
  points.forEach((p, i) => {
    if (i) path.lineTo(p.x * k + x, p.y * k + y)
    else path.moveTo(p.x * k + x, p.y * k + y)
  })
}

interface Layers {
  readonly lines: Batches
  readonly gaps: Batches
  readonly signs: Batches
}

function drawBranch(shape: BranchShape, to: Layers, paint: Paint, view: View, look: Look, thin: number) {
  const { palette } = look
  const live = paint.live(shape.id)
  const colour = live ? paint.branch(shape.id) : palette.dead
  const width = thin + (5 * Math.round(paint.width(shape.id) * 20)) / 20
  const strands = live ? strandsOf(paint.strands(shape.id)) : []
  const dash = live ? (PHASE_DASH[strands[0]?.[0] ?? ''] ?? '') : '2 4'
  if (strands.length > 1 && look.apart * view.k > 1.2) {
    const first = shape.vertical === shape.forward ? -1 : 1
    strands.forEach(([phase, hue], n) => {
      const away = (n - (strands.length - 1) / 2) * -look.apart * first
      trace(to.lines.of(hue, 1.5, PHASE_DASH[phase] ?? ''), beside(shape.points, away), view)
    })
  } else
    trace(to.lines.of(strands[0]?.[1] ?? colour, width, strands.length > 1 ? '' : dash), shape.points, view)
  if (shape.stub) trace(to.lines.of(colour, thin, '2 4'), shape.stub, view)
  if (shape.leg) trace(to.lines.of(colour, thin, live ? '' : '2 4'), shape.leg, view)
  if (view.k > 0.3)
    for (const { at } of shape.stubNames)
      to.signs
        .of(colour, thin, '', palette.panel)
        .rect(
          at.x * view.k + view.x - 3.5 * view.k,
          at.y * view.k + view.y - 7 * view.k,
          7 * view.k,
          7 * view.k,
        )
  const symbol = branchSymbols[shape.kind]
  const at = { x: shape.at.x * view.k + view.x, y: shape.at.y * view.k + view.y }
  if (symbol) {
    const s = look.symbolScale * shape.size * view.k
    if (9 * s < LEAST_SYMBOL) return
    const turn =
      (shape.vertical ? (shape.forward ? 0 : 180) : shape.forward ? -90 : 90) + (shape.flipped ? 180 : 0)
    const m = new DOMMatrix().translateSelf(at.x, at.y).rotateSelf(turn).scaleSelf(s)
    to.gaps.of(palette.panel, Math.max(thin + 2.5, 3)).addPath(glyph(`M0 ${-symbol.gap}V${symbol.gap}`), m)
    to.signs.of(colour, thin).addPath(glyph(symbol.path(shape)), m)
  } else if (live && look.showFlow && shape.length > 34 && paint.flow(shape.id)) {
    const ahead = shape.forward === paint.flow(shape.id) > 0
    const turn = (shape.vertical ? 90 : 0) + (ahead ? 0 : 180)
    const m = new DOMMatrix()
      .translateSelf(at.x, at.y)
      .rotateSelf(turn)
      .scaleSelf(Math.min(look.symbolScale, 1.5) * view.k)
    to.signs.of(colour, 1.5).addPath(glyph('M-3.5-4.5 3.5 0-3.5 4.5'), m)
  }
}

function drawHang(shape: HangShape, lines: Batches, signs: Batches, paint: Paint, view: View, look: Look) {
  const s = Math.min(look.symbolScale, 1.6) * shape.size * view.k
  if (10 * s < LEAST_SYMBOL) return
  const { palette } = look
  const live = paint.live(shape.id)
  const colour = live ? palette.ink : palette.dead
  trace(lines.of(colour, 1.3, live ? '' : '2 4'), shape.points, view)
  const symbol = hangSymbols[shape.kind]
  if (!symbol) return
  const m = new DOMMatrix()
    .translateSelf(shape.at.x * view.k + view.x, shape.at.y * view.k + view.y)
    .scaleSelf(s, (shape.up ? -1 : 1) * s)
  if (symbol.lettered && shape.up) m.translateSelf(0, 18).scaleSelf(1, -1)
  signs.of(colour, 1.3, '', palette.panel).addPath(glyph(symbol.path(shape)), m)
}

function drawBar(shape: BusShape, bars: Batches, paint: Paint, view: View, palette: Palette) {
  const live = paint.live(shape.id)
  const half = Math.max(shape.half * view.k, 1)
  const at = { x: shape.x * view.k + view.x, y: shape.y * view.k + view.y }
  const along = (path: Path2D, from: number, to: number) => {
    path.moveTo(shape.upright ? at.x : at.x + from, shape.upright ? at.y + from : at.y)
    path.lineTo(shape.upright ? at.x : at.x + to, shape.upright ? at.y + to : at.y)
  }
  const width = Math.round(Math.min(5.5, Math.max(1.5, 12 * view.k)) * 2) / 2
  along(bars.of(live ? paint.bus(shape.id) : palette.dead, width), -half, half)
  if (!live) return along(bars.of(palette.panel, width * 0.55), -half, half)
  const parts = half > 4 ? strandsOf(paint.strands(shape.id)) : []
  const each = (2 * half) / Math.max(parts.length, 1)
  parts.forEach(([, hue], n) => {
    along(
      bars.of(hue, width + 1.5),
      each * n - half + (n ? 0.8 : 0),
      each * (n + 1) - half - (n < parts.length - 1 ? 0.8 : 0),
    )
  })
}
