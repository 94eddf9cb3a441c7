/** What a profile can show, read from the live result: of the bus at a distance, or of the branch that leads there. */

import type { Units } from './prefs'
import { figure, type Result } from './results'
import { conversion } from './units'

export interface Quantity {
  readonly id: string
  readonly label: string
  readonly unit: string
  readonly digits: number
  /** Belongs to the bus (drawn as a slope between buses) or to the branch (drawn as a step). */
  readonly of: 'bus' | 'branch'
  /** Known per phase only. */
  readonly phased?: boolean
  readonly read: (result: Result | null, bus: string, element: string | null) => number | undefined
}

const branch = (name: string) => (result: Result | null, _: string, element: string | null) =>
  element ? figure(result?.tables.branches, element, name) : undefined

/** A quantity in the units somebody has chosen. */
export function inUnits(quantity: Quantity, units: Units): Quantity {
  const c = conversion(quantity.unit, units)
  if (c.factor === 1) return quantity
  return {
    ...quantity,
    unit: c.unit,
    digits: Math.max(quantity.digits + c.digits, 0),
    read: (...of) => {
      const value = quantity.read(...of)
      return value === undefined ? undefined : value * c.factor
    },
  }
}

export const QUANTITIES: readonly Quantity[] = [
  {
    id: 'voltage',
    label: 'voltage',
    unit: 'p.u.',
    digits: 3,
    of: 'bus',
    read: (result, bus) => figure(result?.tables.buses, bus, 'voltage_pu'),
  },
  {
    id: 'neutral',
    label: 'neutral to earth',
    unit: 'V',
    digits: 1,
    of: 'bus',
    phased: true,
    read: (result, bus) => figure(result?.tables.buses, bus, 'neutral_voltage_v'),
  },
  {
    id: 'unbalance',
    label: 'unbalance',
    unit: '%',
    digits: 2,
    of: 'bus',
    phased: true,
    read: (result, bus) => figure(result?.tables.buses, bus, 'unbalance_pct'),
  },
  { id: 'loading', label: 'loading', unit: '%', digits: 0, of: 'branch', read: branch('loading_pct') },
  { id: 'current', label: 'current', unit: 'A', digits: 0, of: 'branch', read: branch('from_current_a') },
  {
    id: 'drop',
    label: 'drop',
    unit: '%',
    digits: 2,
    of: 'branch',
    read: branch('voltage_drop_pct'),
  },
  {
    id: 'factor',
    label: 'cos φ',
    unit: '',
    digits: 3,
    of: 'branch',
    read: branch('from_power_factor'),
  },
  {
    id: 'losses',
    label: 'losses',
    unit: 'kW',
    digits: 1,
    of: 'branch',
    read: (result, bus, element) => thousand(branch('active_loss_mw')(result, bus, element)),
  },
  { id: 'summed', label: 'losses, summed', unit: 'kW', digits: 1, of: 'bus', read: () => undefined },
]

/** One curve of a quantity: the whole, or one phase of it. */
export interface Strand {
  readonly name: string
  readonly quantity: Quantity
}

const VOLTAGES: Readonly<Record<string, readonly (readonly [string, string])[]>> = {
  phases: [
    ['A', 'phase_a_voltage_pu'],
    ['B', 'phase_b_voltage_pu'],
    ['C', 'phase_c_voltage_pu'],
  ],
  line: [
    ['AB', 'line_ab_voltage_pu'],
    ['BC', 'line_bc_voltage_pu'],
    ['CA', 'line_ca_voltage_pu'],
  ],
}
const CURRENTS = [
  ['A', 'phase_a_current_a'],
  ['B', 'phase_b_current_a'],
  ['C', 'phase_c_current_a'],
  ['N', 'neutral_current_a'],
] as const

/** The curves in which a quantity is drawn the way a result is looked at: one of each phase, or one alone. */
export function strands(
  quantity: Quantity,
  result: Result | null,
  way: string,
  factor = 1,
): readonly Strand[] {
  const one =
    (table: 'buses' | 'branches') =>
    ([name, column]: readonly [string, string]): Strand => ({
      name,
      quantity: {
        ...quantity,
        read: (from, bus, element) => {
          const value = figure(from?.tables[table], table === 'buses' ? bus : (element ?? ''), column)
          return value === undefined || (table === 'branches' && value === 0) ? undefined : value * factor
        },
      },
    })
  const has = (table: string, column: string) => result?.tables[table]?.columns.some((c) => c.name === column)
  const volts = VOLTAGES[way]
  if (quantity.id === 'voltage' && volts && has('buses', volts[0]![1])) return volts.map(one('buses'))
  if (quantity.id === 'current' && way === 'phases' && has('branches', CURRENTS[0][1]))
    return CURRENTS.map(one('branches'))
  // The neutral is drawn as the neutral.
  return [{ name: quantity.id === 'neutral' ? 'N' : '', quantity }]
}

const thousand = (value: number | undefined) => (value === undefined ? undefined : value * 1000)

/** The tree of a profile: rows in the order in which they are reached, each with the row before it. */
export interface Tree {
  readonly bus: readonly string[]
  readonly before: readonly number[]
  readonly element: readonly (string | null)[]
  readonly km: readonly number[]
}

/** Only the way to one bus: it and what it is reached through. The whole tree when it is not part of it. */
export function pathTo(tree: Tree, bus: string | null): Tree {
  let at = bus === null ? -1 : tree.bus.indexOf(bus)
  if (at < 0) return tree
  const rows: number[] = []
  while (at >= 0) {
    rows.unshift(at)
    at = tree.before[at]!
  }
  return {
    bus: rows.map((r) => tree.bus[r]!),
    before: rows.map((_, i) => i - 1),
    element: rows.map((r) => tree.element[r]!),
    km: rows.map((r) => tree.km[r]!),
  }
}

/** The quantities that are known under other conditions as well. */
const OVERLAID: ReadonlySet<string> = new Set(['voltage', 'loading'])

/** Another condition beside the present one: figures by bus or element. */
export interface Overlay {
  readonly label: string
  readonly voltage: ReadonlyMap<string, number>
  readonly loading: ReadonlyMap<string, number>
}

/** What turns per unit of rated voltage into the quantity's own unit. */
export const perUnit = (quantity: Quantity) => (quantity.id === 'voltage' && quantity.unit === '%' ? 100 : 1)

export function overlaySeries(tree: Tree, quantity: Quantity, overlay: Overlay): (number | undefined)[] {
  if (quantity.id === 'voltage')
    return tree.bus.map((b) => {
      const value = overlay.voltage.get(b)
      return value === undefined ? undefined : value * perUnit(quantity)
    })
  if (quantity.id === 'loading') return tree.element.map((e) => overlay.loading.get(e ?? ''))
  return tree.bus.map(() => undefined)
}

export function treeOf(profile: {
  bus: readonly string[]
  parent: readonly (string | null)[]
  element: readonly (string | null)[]
  distance_km: readonly number[]
}): Tree {
  const row = new Map(profile.bus.map((b, i) => [b, i]))
  const before = profile.parent.map((p) => (p === null ? -1 : (row.get(p) ?? -1)))
  return { bus: profile.bus, before, element: profile.element, km: profile.distance_km }
}

/** One value a row; summed losses add up from the start along each way. */
export function series(tree: Tree, quantity: Quantity, result: Result | null): (number | undefined)[] {
  if (quantity.id !== 'summed')
    return tree.bus.map((b, i) => quantity.read(result, b, tree.element[i] ?? null))
  const losses = QUANTITIES.find((q) => q.id === 'losses')!
  const sums: (number | undefined)[] = []
  tree.bus.forEach((b, i) => {
    const up = tree.before[i]!
    const own = losses.read(result, b, tree.element[i] ?? null) ?? 0
    sums.push(up < 0 ? 0 : (sums[up] ?? 0) + own)
  })
  return sums
}

export interface LengthUnit {
  readonly id: string
  readonly perKm: number
}
export const LENGTHS: readonly LengthUnit[] = [
  { id: 'km', perKm: 1 },
  { id: 'm', perKm: 1000 },
  { id: 'ft', perKm: 3280.84 },
]

/** The profile as comma-separated text: one row a bus, pinned values and other conditions beside the present ones. */
export function asCsv(
  tree: Tree,
  shown: readonly Quantity[],
  result: Result | null,
  pinned: Result | null,
  unit: LengthUnit,
  name: (bus: string) => string,
  overlays: readonly Overlay[] = [],
): string {
  const quote = (text: string) => `"${(/^[=+\-@]/.test(text) ? `'${text}` : text).replaceAll('"', '""')}"`
  const head = ['bus', `distance_${unit.id}`]
  const columns: (readonly (number | undefined)[])[] = []
  for (const q of shown) {
    head.push(`${q.label} ${q.unit}`.trim())
    columns.push(series(tree, q, result))
    if (pinned) {
      head.push(`${q.label} ${q.unit} pinned`.trim())
      columns.push(series(tree, q, pinned))
    }
    for (const overlay of OVERLAID.has(q.id) ? overlays : []) {
      head.push(`${q.label} ${q.unit} ${overlay.label}`.trim())
      columns.push(overlaySeries(tree, q, overlay))
    }
  }
  const rows = tree.bus.map((b, i) =>
    [quote(name(b)), String(tree.km[i]! * unit.perKm), ...columns.map((c) => c[i] ?? '')].join(','),
  )
  return [head.map(quote).join(','), ...rows].join('\r\n')
}
