/** Far out, stations and feeders stand as one mark each and open into their parts as one comes nearer. No React, no DOM. */
import type { Finding } from '../api/client'
import { figure, type Result } from '../model/results'
import { type Box, boxOf, type Point } from './geometry'
import type { Paint } from './paint'
import type { BranchShape, BusShape, HangShape, Scene } from './scene'

export interface Station {
  readonly id: string
  readonly name: string
  readonly buses: readonly string[]
  readonly feeders: readonly string[]
}

export interface Feeder {
  readonly id: string
  readonly name: string
  readonly buses: readonly string[]
}

export interface Mark {
  readonly key: string
  readonly name: string
  /** A station with its feeders, a station alone, or a feeder. */
  readonly kind: 'site' | 'station' | 'feeder'
  readonly at: Point
  readonly box: Box
  readonly buses: readonly string[]
  /** Zoom from which it stands open. */
  readonly opens: number
  /** Distance to the nearest mark that may stand beside it, in sheet units: it never grows larger than that lets it. */
  readonly room: number
}

interface Site {
  readonly whole: Mark | null
  readonly parts: readonly Mark[]
}

/** Everything that can be folded, with the zooms at which something opens, ascending. */
export interface Sites {
  readonly sites: readonly Site[]
  readonly steps: readonly number[]
}

/** Of a network below this number of buses everything is drawn whatever the zoom. */
export const LEAST_BUSES = 1200
/** Pixels between buses, and between marks of a station and its feeders, from which they stand for themselves. */
const BUS_ROOM = 12
const MARK_ROOM = 26

export function sitesOf(scene: Scene, stations: readonly Station[], feeders: readonly Feeder[]): Sites {
  if (scene.buses.length < LEAST_BUSES) return { sites: [], steps: [] }
  const byId = new Map(feeders.map((f) => [f.id, f]))
  const sites = stations.flatMap((s): Site[] => {
    const mine = s.feeders.flatMap((f) => byId.get(f) ?? [])
    const parts = [
      markOf(scene, 'station', s.id, s.name, s.buses),
      ...mine.map((f) => markOf(scene, 'feeder', f.id, f.name, f.buses)),
    ].filter((m): m is Mark => m !== null)
    const all = [...s.buses, ...mine.flatMap((f) => f.buses)]
    const whole = parts.length > 1 ? markOf(scene, 'site', s.id, s.name, all, parts.length) : null
    return parts.length ? [{ whole, parts: spaced(parts) }] : []
  })
  const wholes = spaced(sites.map((s) => s.whole ?? s.parts[0]!))
  sites.forEach((s, n) => {
    if (s.whole) sites[n] = { ...s, whole: wholes[n]! }
  })
  const steps = new Set<number>()
  for (const { whole, parts } of sites) for (const m of whole ? [whole, ...parts] : parts) steps.add(m.opens)
  return { sites, steps: [...steps].sort((a, b) => a - b) }
}

function markOf(
  scene: Scene,
  kind: Mark['kind'],
  id: string,
  name: string,
  buses: readonly string[],
  parts = 0,
): Mark | null {
  const corners = buses.flatMap((b) => {
    const bus = scene.busById.get(b)
    return bus ? cornersOf(bus) : []
  })
  const box = boxOf(corners)
  if (!box) return null
  const area = Math.max(box.maxX - box.minX, 30) * Math.max(box.maxY - box.minY, 30)
  const apart = Math.sqrt(area / (parts || buses.length))
  return {
    key: `${kind} ${id}`,
    name,
    kind,
    at: { x: (box.minX + box.maxX) / 2, y: (box.minY + box.maxY) / 2 },
    box,
    buses,
    opens: (parts ? MARK_ROOM : BUS_ROOM) / apart,
    room: Number.POSITIVE_INFINITY,
  }
}

/** Marks with the room that the nearest of them leaves each. */
function spaced(marks: readonly Mark[]): Mark[] {
  const across = [...marks].sort((a, b) => a.at.x - b.at.x)
  const room = new Map<Mark, number>()
  across.forEach((m, n) => {
    let least = Number.POSITIVE_INFINITY
    for (const by of [1, -1])
      for (let i = n + by; i >= 0 && i < across.length; i += by) {
        const other = across[i]!
        if (Math.abs(other.at.x - m.at.x) >= least) break
        least = Math.min(least, Math.hypot(other.at.x - m.at.x, other.at.y - m.at.y))
      }
    room.set(m, least)
  })
  const most = 1.2 * ([...room.values()].sort((a, b) => a - b)[marks.length >> 1] ?? 0)
  return marks.map((m) => ({ ...m, room: Math.min(room.get(m)!, most) }))
}

const cornersOf = (b: BusShape): Point[] =>
  b.upright
    ? [
        { x: b.x, y: b.y - b.half },
        { x: b.x, y: b.y + b.half },
      ]
    : [
        { x: b.x - b.half, y: b.y },
        { x: b.x + b.half, y: b.y },
      ]

/** How many steps lie at or below a zoom: as long as that stays, so does what is folded. */
export const stepAt = (sites: Sites, k: number) => {
  let low = 0
  let high = sites.steps.length
  while (low < high) {
    const middle = (low + high) >> 1
    if (sites.steps[middle]! <= k) low = middle + 1
    else high = middle
  }
  return low
}

export interface Folded {
  readonly marks: readonly Mark[]
  /** What each folded bus, branch and hanging element is part of. */
  readonly within: ReadonlyMap<string, Mark>
  /** What is left to draw: branches between marks run straight from one to the other. */
  readonly buses: readonly BusShape[]
  readonly branches: readonly BranchShape[]
  readonly hangs: readonly HangShape[]
  /** Branches inside each mark, by its key. */
  readonly inner: ReadonlyMap<string, readonly string[]>
}

export function fold(scene: Scene, sites: Sites, step: number): Folded {
  const { buses, branches, hangs } = scene
  const within = new Map<string, Mark>()
  const marks: Mark[] = []
  // A zoom that lies just at the step: what opens above it is folded.
  const k = step ? sites.steps[step - 1]! : 0
  for (const { whole, parts } of sites.sites) {
    const shown = whole && whole.opens > k ? [whole] : parts.filter((m) => m.opens > k)
    for (const mark of shown) {
      marks.push(mark)
      for (const b of mark.buses) within.set(b, mark)
    }
  }
  if (!marks.length) return { marks, within, buses, branches, hangs, inner: new Map() }
  const inner = new Map<string, string[]>()
  const left: BranchShape[] = []
  for (const branch of branches) {
    const [a, b] = [within.get(branch.buses[0] ?? ''), within.get(branch.buses[1] ?? '')]
    if (!a && !b) left.push(branch)
    else if (a === b && a) {
      within.set(branch.id, a)
      const list = inner.get(a.key)
      if (list) list.push(branch.id)
      else inner.set(a.key, [branch.id])
    } else left.push(between(branch, a, b))
  }
  for (const h of hangs) {
    const mark = within.get(h.bus)
    if (mark) within.set(h.id, mark)
  }
  return {
    marks,
    within,
    inner,
    buses: buses.filter((b) => !within.has(b.id)),
    branches: left,
    hangs: hangs.filter((h) => !within.has(h.id)),
  }
}

/** A branch without its symbol: straight between two marks; square, as it leaves its bar, where one end stands open. */
function between(branch: BranchShape, a: Mark | undefined, b: Mark | undefined): BranchShape {
  const drawn = branch.stub ? [branch.points[0]!, branch.stub.at(-1)!] : branch.points
  const way = a ? [...drawn].reverse() : drawn
  const mark = a ?? b
  const [first, second] = way as [Point, Point]
  const from = a && b ? a.at : first
  const to = a && b ? b.at : mark!.at
  const square = !(a && b) && Math.abs(first.x - second.x) < 0.5
  const points = square ? [from, { x: from.x, y: to.y }, to] : [from, to]
  return {
    ...branch,
    kind: 'line',
    points: a && !b ? points.reverse() : points,
    stub: null,
    stubNames: [],
    leg: null,
    at: { x: (from.x + to.x) / 2, y: (from.y + to.y) / 2 },
    length: 0, // no chevron and no label: there is no room for them
  }
}

export interface MarkFigures {
  /** Voltage farthest from nominal, and where. */
  readonly voltage: { readonly id: string; readonly pu: number } | null
  readonly loading: { readonly id: string; readonly pct: number } | null
  readonly finding: Finding | undefined
  readonly findings: number
  readonly dead: number
}

/** The worst of all that a mark stands for. */
export function figuresOf(mark: Mark, folded: Folded, result: Result | null, paint: Paint): MarkFigures {
  let voltage: { id: string; pu: number } | null = null
  let loading: { id: string; pct: number } | null = null
  let finding: Finding | undefined
  let findings = 0
  let dead = 0
  const look = (id: string) => {
    const f = paint.finding(id)
    if (!f) return
    findings++
    if (!finding || rank(f) > rank(finding)) finding = f
  }
  for (const id of mark.buses) {
    const pu = figure(result?.tables.buses, id, 'voltage_pu')
    if (pu === undefined) dead += paint.live(id) ? 0 : 1
    else if (!voltage || Math.abs(pu - 1) > Math.abs(voltage.pu - 1)) voltage = { id, pu }
    look(id)
  }
  for (const id of folded.inner.get(mark.key) ?? []) {
    const pct =
      figure(result?.tables.branches, id, 'loading_pct') ?? figure(result?.tables.windings, id, 'loading_pct')
    if (pct !== undefined && (!loading || pct > loading.pct)) loading = { id, pct }
    look(id)
  }
  return { voltage, loading, finding, findings, dead }
}

const rank = (f: Finding) => (f.severity === 'breach' ? 1e6 : 0) + f.excess

/** Radius in pixels: more for more buses, never more than there is room for. */
export const radiusOf = (mark: Mark, k: number) =>
  Math.max(Math.min(3.5 + 1.4 * Math.log2(1 + mark.buses.length), 0.34 * mark.room * k), 3.5)
