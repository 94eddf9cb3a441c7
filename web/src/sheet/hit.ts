/** What is under the pointer where shapes are drawn on the canvas and can't be asked themselves. */
import { type Point, toScreen, type View } from './geometry'
import type { Shapes } from './Painter'

const REACH = 8

/** Id of the nearest bus, symbol, hanging element or line within reach of a point of the screen; buses come first. */
export function hitAt(shapes: Shapes, view: View, p: Point): string | null {
  let best: string | null = null
  let near = REACH
  const take = (id: string, distance: number) => {
    if (distance < near) {
      near = distance
      best = id
    }
  }
  for (const b of shapes.buses) {
    const q = toScreen(view, b)
    const half = b.half * view.k
    const [along, across] = b.upright ? [p.y - q.y, p.x - q.x] : [p.x - q.x, p.y - q.y]
    take(b.id, Math.hypot(Math.max(Math.abs(along) - half, 0), across))
  }
  if (best) return best
  for (const h of shapes.hangs) {
    const q = toScreen(view, h.at)
    const middle = (h.up ? -9 : 7) * view.k
    take(h.id, Math.max(Math.hypot(p.x - q.x, p.y - q.y - middle) - 7 * view.k, 0))
  }
  for (const s of shapes.branches) {
    if (s.kind !== 'line') {
      const q = toScreen(view, s.at)
      take(s.id, Math.max(Math.hypot(p.x - q.x, p.y - q.y) - 12 * view.k, 0))
    }
    for (const points of [s.points, s.stub, s.leg]) if (points) take(s.id, farFrom(points, view, p) + 1)
  }
  return best
}

function farFrom(points: readonly Point[], view: View, p: Point): number {
  let least = Number.POSITIVE_INFINITY
  for (let i = 1; i < points.length; i++) {
    const [a, b] = [toScreen(view, points[i - 1]!), toScreen(view, points[i]!)]
    const length = (b.x - a.x) ** 2 + (b.y - a.y) ** 2 || 1
    const t = Math.min(1, Math.max(0, ((p.x - a.x) * (b.x - a.x) + (p.y - a.y) * (b.y - a.y)) / length))
    least = Math.min(least, Math.hypot(a.x + t * (b.x - a.x) - p.x, a.y + t * (b.y - a.y) - p.y))
  }
  return least
}
