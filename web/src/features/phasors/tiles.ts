/** Phasors of buses and branches, read from a result per phase. */
import { figure, type Item, type Result } from '../../bench/model'

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
}

const PHASES = ['A', 'B', 'C'] as const

/** Voltages of a bus to its neutral in p.u.; neutral to earth on the same base. */
function voltages(result: Result | null, id: string, base: number): Phasor[] {
  const buses = result?.tables.buses
  const found = PHASES.flatMap((c): Phasor[] => {
    const size = figure(buses, id, `phase_${c.toLowerCase()}_voltage_pu`)
    const angle = figure(buses, id, `phase_${c.toLowerCase()}_angle_deg`)
    return size === undefined || angle === undefined ? [] : [{ conductor: c, size, angle }]
  })
  const volts = figure(buses, id, 'neutral_voltage_v')
  const angle = figure(buses, id, 'neutral_angle_deg')
  return volts === undefined || angle === undefined || volts < 0.01
    ? found
    : [...found, { conductor: 'N', size: volts / base, angle }]
}

function currents(result: Result | null, id: string): Phasor[] {
  const branches = result?.tables.branches
  return [...PHASES, 'N' as const].flatMap((c): Phasor[] => {
    const stem = c === 'N' ? 'neutral' : `phase_${c.toLowerCase()}`
    const size = figure(branches, id, `${stem}_current_a`)
    const angle = figure(branches, id, `${stem}_current_deg`)
    return size === undefined || angle === undefined || size < 0.005 ? [] : [{ conductor: c, size, angle }]
  })
}

/** One tile for each bus and branch among the items. */
export function tilesOf(items: readonly Item[], result: Result | null, pinned: Result | null): Tile[] {
  return items.flatMap((item): Tile[] => {
    if (item.kind === 'bus') {
      const kv = typeof item.nominal_kv === 'number' ? item.nominal_kv : 1
      const base = (kv * 1000) / (item.split_phase === true ? 2 : Math.sqrt(3))
      const arrows = voltages(result, item.id, base)
      const ghosts = voltages(pinned, item.id, base)
      return [{ id: item.id, name: item.name, what: 'voltage', unit: 'p.u.', digits: 3, arrows, ghosts }]
    }
    if (result?.tables.branches?.row.has(item.id)) {
      const arrows = currents(result, item.id)
      const ghosts = currents(pinned, item.id)
      return [{ id: item.id, name: item.name, what: 'current', unit: 'A', digits: 1, arrows, ghosts }]
    }
    return []
  })
}

/** The largest phasor of each kind: what a common scale is drawn to. */
export function largest(tiles: readonly Tile[], what: Tile['what']): number {
  const sizes = tiles
    .filter((t) => t.what === what)
    .flatMap((t) => [...t.arrows, ...t.ghosts].map((a) => a.size))
  return Math.max(...sizes, 1e-9)
}

/** The tip of a phasor drawn from the middle: angles count against the clock from the right. */
export function tip(phasor: Phasor, radius: number, full: number): { x: number; y: number } {
  const length = (phasor.size / full) * radius
  const turn = (phasor.angle * Math.PI) / 180
  return { x: length * Math.cos(turn), y: -length * Math.sin(turn) }
}
