/** Pure geometry of the sheet: the view, and where things meet. No React, no DOM. */

export interface Point {
  readonly x: number
  readonly y: number
}

/** Screen = world * k + (x, y). */
export interface View {
  readonly k: number
  readonly x: number
  readonly y: number
}

export interface Box {
  readonly minX: number
  readonly minY: number
  readonly maxX: number
  readonly maxY: number
}

export const toScreen = (v: View, p: Point): Point => ({ x: p.x * v.k + v.x, y: p.y * v.k + v.y })
export const toWorld = (v: View, p: Point): Point => ({ x: (p.x - v.x) / v.k, y: (p.y - v.y) / v.k })

export const MIN_ZOOM = 0.02
export const MAX_ZOOM = 6

/** Room kept free around everything: at the bottom for the legend. */
const MARGIN = { side: 40, top: 40, bottom: 62 } as const

export function fitView(box: Box, width: number, height: number): View {
  const w = Math.max(box.maxX - box.minX, 1)
  const h = Math.max(box.maxY - box.minY, 1)
  const { top, bottom } = MARGIN
  // Names stand beside the outermost bars, where the window is wide enough for them.
  const side = width > 640 ? MARGIN.side + 60 : MARGIN.side
  const k = Math.min((width - 2 * side) / w, (height - top - bottom) / h, 1.4)
  const zoom = Math.max(k, MIN_ZOOM)
  return {
    k: zoom,
    x: width / 2 - ((box.minX + box.maxX) / 2) * zoom,
    y: (height + top - bottom) / 2 - ((box.minY + box.maxY) / 2) * zoom,
  }
}

/** The same zoom, with a point in the middle. */
export const centred = (v: View, p: Point, width: number, height: number): View => ({
  k: v.k,
  x: width / 2 - p.x * v.k,
  y: height / 2 - p.y * v.k,
})

export function zoomed(v: View, factor: number, at: Point): View {
  const k = Math.min(Math.max(v.k * factor, MIN_ZOOM), MAX_ZOOM)
  const world = toWorld(v, at)
  return { k, x: at.x - world.x * k, y: at.y - world.y * k }
}

export function boxOf(points: Iterable<Point>): Box | null {
  let box: { minX: number; minY: number; maxX: number; maxY: number } | null = null
  for (const { x, y } of points) {
    if (!box) box = { minX: x, minY: y, maxX: x, maxY: y }
    else {
      box.minX = Math.min(box.minX, x)
      box.minY = Math.min(box.minY, y)
      box.maxX = Math.max(box.maxX, x)
      box.maxY = Math.max(box.maxY, y)
    }
  }
  return box
}

export const overlaps = (a: Box, b: Box) =>
  a.minX < b.maxX && a.maxX > b.minX && a.minY < b.maxY && a.maxY > b.minY

/** The longest piece of a polyline, with its middle and whether it runs across or down. */
export function longestPiece(points: readonly Point[]): {
  at: Point
  vertical: boolean
  length: number
  forward: boolean
} {
  let best = { at: points[0] ?? { x: 0, y: 0 }, vertical: false, length: 0, forward: true }
  for (let i = 1; i < points.length; i++) {
    const a = points[i - 1]!
    const b = points[i]!
    const length = Math.abs(b.x - a.x) + Math.abs(b.y - a.y)
    if (length > best.length) {
      const vertical = Math.abs(b.y - a.y) > Math.abs(b.x - a.x)
      const forward = vertical ? b.y >= a.y : b.x >= a.x
      best = { at: { x: (a.x + b.x) / 2, y: (a.y + b.y) / 2 }, vertical, length, forward }
    }
  }
  return best
}

export const snap = (value: number, grid = 10) => Math.round(value / grid) * grid

export const pathOf = (points: readonly Point[]) =>
  points.map((p, i) => `${i ? 'L' : 'M'}${p.x.toFixed(1)} ${p.y.toFixed(1)}`).join('')

/** A polyline moved sideways, to the left of its direction where the distance is positive; corners stay corners. */
export function beside(points: readonly Point[], distance: number): Point[] {
  const normals: Point[] = []
  for (let i = 1; i < points.length; i++) {
    const dx = points[i]!.x - points[i - 1]!.x
    const dy = points[i]!.y - points[i - 1]!.y
    const length = Math.hypot(dx, dy)
    normals.push(length > 0 ? { x: dy / length, y: -dx / length } : (normals[i - 2] ?? { x: 0, y: 0 }))
  }
  return points.map((p, i) => {
    const a = normals[Math.max(i - 1, 0)] ?? { x: 0, y: 0 }
    const b = normals[Math.min(i, normals.length - 1)] ?? a
    const along = 1 + a.x * b.x + a.y * b.y
    const far = along > 0.1 ? distance / along : distance / 2
    return { x: p.x + (a.x + b.x) * far, y: p.y + (a.y + b.y) * far }
  })
}
