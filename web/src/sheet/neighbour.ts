/** Moving the selection by arrow keys: the nearest element in a direction. */
import type { Point } from './geometry'

const ARROWS: Readonly<Record<string, Point>> = {
  ArrowLeft: { x: -1, y: 0 },
  ArrowRight: { x: 1, y: 0 },
  ArrowUp: { x: 0, y: -1 },
  ArrowDown: { x: 0, y: 1 },
}

export const arrow = (key: string): Point | undefined => ARROWS[key]

export function neighbour(
  centre: ReadonlyMap<string, Point>,
  from: string | null,
  way: Point,
): string | null {
  const start = from ? centre.get(from) : undefined
  if (!start) return centre.keys().next().value ?? null
  let best: string | null = null
  let cost = Number.POSITIVE_INFINITY
  for (const [id, p] of centre) {
    if (id === from) continue
    const along = (p.x - start.x) * way.x + (p.y - start.y) * way.y
    const aside = Math.abs((p.x - start.x) * way.y) + Math.abs((p.y - start.y) * way.x)
    if (along < 1 || aside > along * 2.5) continue
    if (along + 2 * aside < cost) {
      cost = along + 2 * aside
      best = id
    }
  }
  return best
}
