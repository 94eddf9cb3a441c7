/** The network on the map: buses where they are, lines along their routes. Pure geometry. */
import { busesOf, type Item, type Items, number } from '../model/items'
import { longestPiece, type Point } from './geometry'
import {
  type BranchShape,
  type BusShape,
  branchOn,
  type HangShape,
  hangOn,
  type Scene,
  sceneOf,
} from './scene'

/** Map units of a degree at the equator: a kilometre is about 40 units. */
const PER_DEGREE = 40 * 111.195

/** Web Mercator, south downwards. */
export const project = (lon: number, lat: number): Point => ({
  x: lon * PER_DEGREE,
  y: -PER_DEGREE * (180 / Math.PI) * Math.log(Math.tan(Math.PI / 4 + (lat * Math.PI) / 360)),
})

export const unproject = (p: Point): { lon: number; lat: number } => ({
  lon: p.x / PER_DEGREE,
  lat: (Math.atan(Math.exp(-p.y / PER_DEGREE / (180 / Math.PI))) * 360) / Math.PI - 90,
})

const APART = 26

/** Buses that stand at one place are drawn side by side, the highest voltage first. */
function spots(items: Items): Map<string, Point> {
  const at = new Map<string, Item[]>()
  for (const i of items.values()) {
    const lon = number(i, 'longitude')
    const lat = number(i, 'latitude')
    if (i.kind !== 'bus' || lon === undefined || lat === undefined) continue
    const key = `${lon.toFixed(5)} ${lat.toFixed(5)}`
    at.set(key, [...(at.get(key) ?? []), i])
  }
  const found = new Map<string, Point>()
  for (const here of at.values()) {
    here.sort((a, b) => (number(b, 'nominal_kv') ?? 0) - (number(a, 'nominal_kv') ?? 0))
    here.forEach((bus, n) => {
      const p = project(number(bus, 'longitude') ?? 0, number(bus, 'latitude') ?? 0)
      found.set(bus.id, { x: p.x + (n - (here.length - 1) / 2) * APART, y: p.y })
    })
  }
  return found
}

export function buildMapScene(items: Items): Scene {
  const at = spots(items)
  const buses = new Map<string, BusShape>()
  const branches: BranchShape[] = []
  const hangs: HangShape[] = []
  for (const [id, p] of at) {
    const item = items.get(id)!
    const kv = number(item, 'nominal_kv') ?? 0
    const half = kv > 45 ? 11 : kv > 20 ? 9 : kv > 1 ? 8 : 5
    buses.set(id, {
      id,
      name: item.name,
      x: p.x,
      y: p.y,
      half,
      // Stations keep their names whatever the zoom; what is below them shows its own when there is room.
      upright: kv < 20,
      kv,
      label: { x: 0, y: 0 },
      topTaken: false,
      nameFrom: Number.NEGATIVE_INFINITY,
      bottomTaken: false,
    })
  }
  const along = new Map<string, number>()
  for (const item of items.values()) {
    const ends = busesOf(item).map((b) => buses.get(b))
    const [a, b] = ends
    if (item.kind === 'bus' || !a) continue
    if (ends.length === 1) {
      const n = along.get(a.id) ?? 0
      along.set(a.id, n + 1)
      const side = n % 2 ? -1 : 1
      const foot = { x: a.x + side * 9 * Math.ceil(n / 2), y: a.y + a.half + 12 }
      hangs.push(hangOn(item, a.id, [{ x: a.x, y: a.y + a.half }, foot], foot))
    } else if (b) {
      const bends = (item.route as readonly (readonly [number, number])[] | undefined) ?? []
      const points = [a, ...bends.map(([lon, lat]) => project(lon, lat)), b].map(({ x, y }) => ({ x, y }))
      const shape = branchOn(item, points)
      // The mark stands on the longest piece, also where it runs aslant.
      branches.push({ ...shape, at: longestPiece(points).at })
    }
  }
  return sceneOf([...buses.values()], buses, branches, hangs)
}

export const placedBuses = (items: Items) =>
  [...items.values()].filter((i) => i.kind === 'bus' && number(i, 'longitude') !== undefined).length

// What lies behind

export interface Backdrop {
  readonly land: readonly string[]
  readonly lines: readonly { readonly d: string; readonly kind: string }[]
  readonly places: readonly { readonly at: Point; readonly name: string; readonly size: number }[]
}

type Position = readonly [number, number]
interface Feature {
  readonly properties?: { readonly name?: string; readonly kind?: string; readonly size?: number } | null
  readonly geometry: { readonly type: string; readonly coordinates: unknown } | null
}

const path = (ring: readonly Position[], close: boolean) =>
  ring
    .map(([lon, lat], i) => {
      const p = project(lon, lat)
      return `${i ? 'L' : 'M'}${p.x.toFixed(1)} ${p.y.toFixed(1)}`
    })
    .join('') + (close ? 'Z' : '')

/** GeoJSON as paths in map units: areas, lines and named places. What it does not know it leaves out. */
export function readBackdrop(data: { features?: readonly Feature[] } | undefined): Backdrop {
  const land: string[] = []
  const lines: { d: string; kind: string }[] = []
  const places: { at: Point; name: string; size: number }[] = []
  for (const f of data?.features ?? []) {
    const g = f.geometry
    if (!g) continue
    const kind = f.properties?.kind ?? ''
    if (g.type === 'Polygon') land.push((g.coordinates as Position[][]).map((r) => path(r, true)).join(''))
    else if (g.type === 'MultiPolygon')
      land.push(
        (g.coordinates as Position[][][])
          .flat()
          .map((r) => path(r, true))
          .join(''),
      )
    else if (g.type === 'LineString') lines.push({ d: path(g.coordinates as Position[], false), kind })
    else if (g.type === 'MultiLineString')
      for (const l of g.coordinates as Position[][]) lines.push({ d: path(l, false), kind })
    else if (g.type === 'Point') {
      const [lon, lat] = g.coordinates as Position
      places.push({ at: project(lon, lat), name: f.properties?.name ?? '', size: f.properties?.size ?? 1 })
    }
  }
  return { land, lines, places }
}

/** Where a point lies along a route: the piece after which a new bend belongs. */
export function pieceAt(points: readonly Point[], p: Point): number {
  let best = 0
  let near = Number.POSITIVE_INFINITY
  for (let i = 1; i < points.length; i++) {
    const [a, b] = [points[i - 1]!, points[i]!]
    const length = (b.x - a.x) ** 2 + (b.y - a.y) ** 2 || 1
    const t = Math.min(1, Math.max(0, ((p.x - a.x) * (b.x - a.x) + (p.y - a.y) * (b.y - a.y)) / length))
    const far = (a.x + t * (b.x - a.x) - p.x) ** 2 + (a.y + t * (b.y - a.y) - p.y) ** 2
    if (far < near) {
      near = far
      best = i - 1
    }
  }
  return best
}
