/** Phasors of buses, branches, loads and plants, read from a result per phase with all its columns. */
import { busesOf, type Item, type Items, number } from '../../model/items'
import type { Way } from '../../model/prefs'
import { figure, type Result } from '../../model/results'

export interface Phasor {
  readonly conductor: string
  readonly size: number
  readonly angle: number
}

export interface Tile {
  readonly id: string
  readonly name: string
  readonly what: 'voltage' | 'current'
  readonly unit: string
  readonly digits: number
  readonly arrows: readonly Phasor[]
  /** The same of the pinned result. */
  readonly ghosts: readonly Phasor[]
  /** Voltages that the currents go with, p.u. */
  readonly beside: readonly Phasor[]
}

/** Conductor or sequence, and the stem of its columns. */
const PHASES: readonly (readonly [string, string])[] = [
  ['A', 'phase_a'],
  ['B', 'phase_b'],
  ['C', 'phase_c'],
  ['N', 'neutral'],
]
const SEQUENCES: readonly (readonly [string, string])[] = [
  ['1', 'positive'],
  ['2', 'negative'],
  ['0', 'zero'],
]

/** Voltages of a bus to its neutral in p.u.; neutral to earth on the same base; or their sequences. */
function voltages(result: Result | null, bus: Item, way: Way): Phasor[] {
  const of = (name: string) => figure(result?.tables.buses, bus.id, name)
  const made = (conductor: string, size: number | undefined, angle: number | undefined): Phasor[] =>
    size === undefined || angle === undefined || size < 1e-5 ? [] : [{ conductor, size, angle }]
  if (way === 'sequences') {
    const one = of('positive_voltage_pu') ?? 0
    return SEQUENCES.flatMap(([n, stem]) =>
      n === '1'
        ? made(n, of('positive_voltage_pu'), of('angle_deg'))
        : made(n, ((of(`${stem}_voltage_pct`) ?? 0) * one) / 100, of(`${stem}_angle_deg`)),
    )
  }
  const kv = number(bus, 'nominal_kv') ?? 1
  const base = (kv * 1000) / (bus.split_phase === true ? 2 : Math.sqrt(3))
  return PHASES.flatMap(([n, stem]) =>
    n === 'N'
      ? made(n, (of('neutral_voltage_v') ?? 0) / base, of('neutral_angle_deg'))
      : made(n, of(`${stem}_voltage_pu`), of(`${stem}_angle_deg`)),
  )
}

/** Currents of a branch or of something at one bus, A. */
function currents(result: Result | null, id: string, way: Way): Phasor[] {
  const table = tableOf(result, id)
  return (way === 'sequences' ? SEQUENCES : PHASES).flatMap(([conductor, stem]): Phasor[] => {
    const size = figure(table, id, `${stem}_current_a`)
    const angle = figure(table, id, `${stem}_current_deg`)
    return size === undefined || angle === undefined || size < 0.005 ? [] : [{ conductor, size, angle }]
  })
}

const tableOf = (result: Result | null, id: string) =>
  [result?.tables.branches, result?.tables.injections].find((t) => t?.row.has(id))

/** The bus whose voltages belong to the currents shown: of a branch the one at the end with the larger current. */
function busBeside(items: Items, result: Result | null, item: Item): Item | undefined {
  const buses = busesOf(item)
  const [from, to] = ['from_current_a', 'to_current_a'].map(
    (n) => figure(result?.tables.branches, item.id, n) ?? 0,
  )
  return items.get((to! > from! ? buses[1] : buses[0]) ?? '')
}

/** One tile for each item that has phasors: voltages of a bus, currents of all else with the voltages they go with. */
export function tilesOf(
  found: readonly Item[],
  items: Items,
  result: Result | null,
  pinned: Result | null,
  way: Way,
): Tile[] {
  return found.flatMap((item): Tile[] => {
    const common = { id: item.id, name: item.name }
    if (item.kind === 'bus') {
      const [arrows, ghosts] = [result, pinned].map((r) => voltages(r, item, way))
      return [
        { ...common, what: 'voltage', unit: 'p.u.', digits: 3, arrows: arrows!, ghosts: ghosts!, beside: [] },
      ]
    }
    if (!tableOf(result, item.id)) return []
    // What hangs at one bus is told by phase alone.
    const own = busesOf(item).length === 1 ? 'phases' : way
    const [arrows, ghosts] = [result, pinned].map((r) => currents(r, item.id, own))
    const bus = busBeside(items, result, item)
    const beside = bus ? voltages(result, bus, own).filter((v) => v.conductor !== 'N') : []
    return [{ ...common, what: 'current', unit: 'A', digits: 1, arrows: arrows!, ghosts: ghosts!, beside }]
  })
}

/** The largest phasor of each kind: what a common scale is drawn to. */
export function largest(tiles: readonly Tile[], what: Tile['what']): number {
  return largestOf(tiles.filter((t) => t.what === what).flatMap((t) => [...t.arrows, ...t.ghosts]))
}

export const largestOf = (phasors: readonly Phasor[]): number => Math.max(...phasors.map((p) => p.size), 1e-9)

/** The tip of a phasor drawn from the middle: angles count against the clock from the right. */
export function tip(phasor: Phasor, radius: number, full: number): { x: number; y: number } {
  const length = (phasor.size / full) * radius
  const turn = (phasor.angle * Math.PI) / 180
  return { x: length * Math.cos(turn), y: -length * Math.sin(turn) }
}
