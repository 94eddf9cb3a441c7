/** Quantities as the service declares them: for lenses, legend, labels, profile and comparison. No list of them stands here. */
import type { components } from '../api/schema'
import type { Units } from './prefs'
import { figure, type Result, type ResultTable } from './results'
import { conversion } from './units'

export type Declared = components['schemas']['QuantityOut']

export const idOf = (q: Pick<Declared, 'table' | 'name'>) => `${q.table}.${q.name}`
export const inSmall = (label: string) => `${label[0]?.toLowerCase() ?? ''}${label.slice(1)}`
/** In small letters and few, for buttons and titles. */
export const wordOf = (q: Declared) => q.short || inSmall(q.label)

const of = (result: Result | null) => result?.quantities ?? []
export const quantityNamed = (result: Result | null, id: string) => of(result).find((q) => idOf(q) === id)
/** Those that are always offered as a lens. */
export const lensesOf = (result: Result | null) => of(result).filter((q) => q.lens)
/** The one that stands for buses, or for branches, by how it is coloured. */
export const standing = (result: Result | null, scale: 'voltage' | 'loading') =>
  of(result).find((q) => q.scale === scale && q.lens)
/** What a column is called: as a quantity, else by its heading. */
export function labelled(result: Result | null, name: string): string | undefined {
  const declared = of(result).find((q) => q.name === name)
  if (declared) return declared.label
  for (const t of Object.values(result?.tables ?? {}))
    for (const c of t.columns) if (c.name === name) return c.label
  return undefined
}

/** The phase, pair or neutral that a column of one is about: `A`, `BC`, `N`. */
export const partOf = (column: string) =>
  column.startsWith('neutral_') ? 'N' : (/^(?:phase|line)_([abc]+)_/.exec(column)?.[1]?.toUpperCase() ?? '')

/** Columns of phases or pairs of a quantity that a result has, the way it is looked at. */
export function eachOf(
  quantity: Declared,
  table: ResultTable | undefined,
): readonly (readonly [string, string])[] {
  const has = (name: string) => table?.columns.some((c) => c.name === name)
  for (const names of Object.values(quantity.each ?? {}))
    if (names.some((n) => !n.startsWith('neutral_') && has(n)))
      return names.filter(has).map((n) => [partOf(n), n] as const)
  return []
}

export interface Quantity {
  readonly id: string
  readonly label: string
  readonly unit: string
  readonly digits: number
  /** Belongs to the bus (drawn as a slope between buses) or to the branch (drawn as a step). */
  readonly of: 'bus' | 'branch'
  /** What it is declared as. */
  readonly declared?: Declared
  /** Added up from the start along each way. */
  readonly sum?: Quantity
  readonly read: (result: Result | null, bus: string, element: string | null) => number | undefined
}

/** Along one feeder, powers are small: the next smaller unit, and what it is multiplied by. */
const FINER: Readonly<Record<string, string>> = { MW: 'kW', Mvar: 'kvar', MVA: 'kVA' }
const THOUSAND = 1000

const reader =
  (table: string, name: string, factor = 1): Quantity['read'] =>
  (result, bus, element) => {
    const id = table === 'buses' ? bus : element
    const value = id === null ? undefined : figure(result?.tables[table], id, name)
    return value === undefined ? undefined : value * factor
  }

/** What a profile can show of a result: what is declared to be drawn along a feeder, and sums of what can be summed. */
export function profiled(result: Result | null): readonly Quantity[] {
  const found = of(result).filter((q) => q.along && (q.table === 'buses' || q.table === 'branches'))
  const one = found.map((q): Quantity => {
    const finer = FINER[q.unit ?? '']
    return {
      id: idOf(q),
      label: wordOf(q),
      unit: finer ?? q.unit ?? '',
      digits: Math.max((q.digits ?? 2) - (finer ? 3 : q.unit === 'p.u.' ? 1 : 0), 0),
      of: q.table === 'buses' ? 'bus' : 'branch',
      declared: q,
      read: reader(q.table, q.name, finer ? THOUSAND : 1),
    }
  })
  const sums = one
    .filter((q) => q.declared?.sums && q.of === 'branch')
    .map(
      (q): Quantity => ({
        id: `${q.id} summed`,
        label: `${q.label}, summed`,
        unit: q.unit,
        digits: q.digits,
        of: 'bus',
        sum: q,
        read: () => undefined,
      }),
    )
  return [...one, ...sums]
}

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

/** One curve of a quantity: the whole, or one phase of it. */
export interface Strand {
  readonly name: string
  readonly quantity: Quantity
}

/** The curves in which a quantity is drawn the way a result is looked at: one of each phase, or one alone. */
export function strands(quantity: Quantity, result: Result | null, factor = 1): readonly Strand[] {
  const q = quantity.declared
  const parts = q ? eachOf(q, result?.tables[q.table]) : []
  // Of losses the phases don't make up the whole, and have another unit.
  const same = parts.filter(
    ([, name]) => result?.tables[q!.table]?.columns.find((c) => c.name === name)?.unit === q?.unit,
  )
  if (q && same.length)
    return same.map(([name, column]) => ({
      name,
      quantity: {
        ...quantity,
        read: (from, bus, element) => {
          const value = reader(q.table, column, factor)(from, bus, element)
          return value === undefined || (q.table === 'branches' && value === 0) ? undefined : value
        },
      },
    }))
  // The neutral is drawn as the neutral.
  return [{ name: q ? (partOf(q.name) === 'N' ? 'N' : '') : '', quantity }]
}

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

/** Another condition beside the present one: figures by bus or element. */
export interface Overlay {
  readonly label: string
  readonly voltage: ReadonlyMap<string, number>
  readonly loading: ReadonlyMap<string, number>
}

const scaleOf = (quantity: Quantity) => quantity.declared?.scale
/** The ones that are known under other conditions as well: what stands for buses and for branches. */
const overlaid = (quantity: Quantity) =>
  !!quantity.declared?.lens && (scaleOf(quantity) === 'voltage' || scaleOf(quantity) === 'loading')

/** What turns per unit of rated voltage into the quantity's own unit. */
export const perUnit = (quantity: Quantity) =>
  quantity.declared?.unit === 'p.u.' && quantity.unit === '%' ? 100 : 1

export function overlaySeries(tree: Tree, quantity: Quantity, overlay: Overlay): (number | undefined)[] {
  if (overlaid(quantity) && quantity.of === 'bus')
    return tree.bus.map((b) => {
      const value = overlay.voltage.get(b)
      return value === undefined ? undefined : value * perUnit(quantity)
    })
  if (overlaid(quantity)) return tree.element.map((e) => overlay.loading.get(e ?? ''))
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
  const { sum } = quantity
  if (!sum) return tree.bus.map((b, i) => quantity.read(result, b, tree.element[i] ?? null))
  const sums: (number | undefined)[] = []
  tree.bus.forEach((b, i) => {
    const up = tree.before[i]!
    const own = sum.read(result, b, tree.element[i] ?? null) ?? 0
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
    for (const overlay of overlaid(q) ? overlays : []) {
      head.push(`${q.label} ${q.unit} ${overlay.label}`.trim())
      columns.push(overlaySeries(tree, q, overlay))
    }
  }
  const rows = tree.bus.map((b, i) =>
    [quote(name(b)), String(tree.km[i]! * unit.perKm), ...columns.map((c) => c[i] ?? '')].join(','),
  )
  return [head.map(quote).join(','), ...rows].join('\r\n')
}
