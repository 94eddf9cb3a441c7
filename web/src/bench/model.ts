/** The network and its live result as the bench holds them. Plain data; no React. */
import type { Column, Live } from '../api/client'
import type { Way } from './prefs'

export interface Item {
  readonly kind: string
  readonly id: string
  readonly name: string
  readonly origins?: Readonly<Record<string, string>>
  readonly [field: string]: unknown
}

export type Items = ReadonlyMap<string, Item>

/** A result table by columns, with the row of every element. */
export interface ResultTable {
  readonly name: string
  readonly label: string
  readonly columns: readonly FullColumn[]
  readonly row: ReadonlyMap<string, number>
  readonly length: number
}

export type FullColumn = Omit<Column, 'values'> & { readonly values: readonly unknown[] }

export interface Result extends Omit<Live, 'tables'> {
  readonly tables: Readonly<Record<string, ResultTable>>
}

/** Complete a live result: columns that were left out because they are known are taken from the last one. */
export function complete(live: Live, last: Result | null): Result {
  const tables: Record<string, ResultTable> = {}
  for (const [name, table] of Object.entries(live.tables)) {
    const before = last?.tables[name]
    const columns = table.columns.map((column): FullColumn => {
      const values = column.values ?? before?.columns.find((c) => c.name === column.name)?.values ?? []
      return { ...column, values }
    })
    const reuse = before && last?.rows === live.rows
    const ids = (columns[0]?.values ?? []) as string[]
    tables[name] = {
      name,
      label: table.label,
      columns,
      length: ids.length,
      row: reuse ? before.row : new Map(ids.map((id, i) => [id, i])),
    }
  }
  return { ...live, tables }
}

/** The names under which one quantity stands in a result, by the way of looking at it. */
const STANDS: Readonly<Record<Way, Readonly<Record<string, readonly string[]>>>> = {
  worst: {},
  phases: {},
  sequences: {
    voltage_pu: ['positive_voltage_pu'],
    from_current_a: ['positive_current_a'],
    loading_pct: ['positive_loading_pct'],
  },
  line: { voltage_pu: ['line_ab_voltage_pu', 'line_bc_voltage_pu', 'line_ca_voltage_pu'] },
}

/** A result per phase as it is looked at: the columns of that way, and what stands for a quantity as a whole.

Of several columns that stand for one, the figure farthest from 1 counts. A balanced result stays as it is. */
export function viewed(result: Result, way: Way): Result {
  const split = Object.values(result.tables).some((t) => t.columns.some((c) => c.view))
  if (!split) return result
  const tables: Record<string, ResultTable> = {}
  for (const [name, table] of Object.entries(result.tables)) {
    const columns = table.columns
      .filter((c) => !c.view || c.view === way)
      .map((c) => {
        const others = (STANDS[way][c.name] ?? []).flatMap(
          (n) => table.columns.find((x) => x.name === n) ?? [],
        )
        return others.length ? { ...c, values: c.values.map((v, i) => farthest(others, i) ?? v) } : c
      })
    tables[name] = { ...table, columns }
  }
  return { ...result, tables }
}

function farthest(columns: readonly FullColumn[], row: number): number | undefined {
  let found: number | undefined
  for (const c of columns) {
    const v = c.values[row]
    if (typeof v === 'number' && (found === undefined || Math.abs(v - 1) > Math.abs(found - 1))) found = v
  }
  return found
}

/** Whether a result knows phases. */
export const hasPhases = (result: Result | null) =>
  !!result?.tables.buses?.columns.some((c) => c.name === 'worst_phase')

export function values(table: ResultTable | undefined, name: string): readonly unknown[] {
  return table?.columns.find((c) => c.name === name)?.values ?? []
}

/** One figure of one element; undefined when there is none. */
export function figure(table: ResultTable | undefined, id: string, name: string): number | undefined {
  const row = table?.row.get(id)
  const value = row === undefined ? undefined : values(table, name)[row]
  return typeof value === 'number' ? value : undefined
}

export const text = (item: Item | undefined, field: string): string => {
  const value = item?.[field]
  return typeof value === 'string' ? value : ''
}

export const number = (item: Item | undefined, field: string): number | undefined => {
  const value = item?.[field]
  return typeof value === 'number' ? value : undefined
}

/** The buses of an element, in the order in which its kind declares them. */
export function busesOf(item: Item): string[] {
  return Object.keys(item)
    .filter((field) => field === 'bus' || field.endsWith('_bus'))
    .map((field) => text(item, field))
    .filter(Boolean)
}

const STATES: Readonly<Record<string, readonly [string, boolean]>> = {
  out: ['in_service', false],
  in: ['in_service', true],
  open: ['closed', false],
  closed: ['closed', true],
}

/** The items as they stand under a condition: some may be out of service, open or closed there. */
export function underCondition(items: Items, condition: Item | undefined): Items {
  const states = Object.entries((condition?.states ?? {}) as Readonly<Record<string, string>>)
  const values = Object.entries((condition?.values ?? {}) as Readonly<Record<string, Partial<Item>>>)
  if (!states.length && !values.length) return items
  const next = new Map(items)
  for (const [id, fields] of values) {
    const item = items.get(id)
    if (item) next.set(id, { ...item, ...fields } as Item)
  }
  for (const [id, state] of states) {
    const item = next.get(id)
    const [field, value] = STATES[state] ?? []
    if (item && field) next.set(id, { ...item, [field]: value })
  }
  return next
}

/** Fields other than buses that say how a network is wired, and what its stations and feeders are called. */
const WIRING = ['closed', 'in_service', 'substation', 'nominal_kv', 'name', 'condition', 'states', 'values']

/** Whether a change of an item can lead to other stations or feeders. */
export function rewires(before: Item | undefined, after: Item): boolean {
  if (!before) return true
  if (
    WIRING.some((f) => before[f] !== after[f] && !(typeof after[f] === 'object' && same(before[f], after[f])))
  )
    return true
  return !sameBuses(before, after)
}

function sameBuses(before: Item, after: Item): boolean {
  const [a, b] = [busesOf(before), busesOf(after)]
  return a.length === b.length && a.every((bus, n) => bus === b[n])
}

/** Fields that the sheet draws, beside buses and what an item is. */
const DRAWN = [
  'name',
  'x',
  'y',
  'bar',
  'upright',
  'nominal_kv',
  'closed',
  'device',
  'flipped',
  'symbol_size',
  'label_dx',
  'label_dy',
  'longitude',
  'latitude',
  'route',
  'area',
]

/** Whether two sets of items look the same on the sheet, results apart. */
export function drawnAlike(before: Items, after: Items): boolean {
  if (before === after) return true
  if (before.size !== after.size) return false
  const old = before.values()
  for (const item of after.values()) {
    const was = old.next().value
    if (was === item) continue
    if (!was || was.id !== item.id || was.kind !== item.kind) return false
    if (DRAWN.some((f) => was[f] !== item[f] && !(f === 'route' && same(was[f], item[f])))) return false
    if (!sameBuses(was, item)) return false
  }
  return true
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b)

/** The items after a change: altered ones in place, new ones at the end, or in the order given. */
export function applied(
  items: Items,
  changed: readonly Item[],
  removed: readonly string[],
  order: readonly string[] | null | undefined,
): Items {
  const next = new Map(items)
  for (const item of changed) next.set(item.id, item)
  for (const id of removed) next.delete(id)
  if (!order) return next
  return new Map(order.flatMap((id) => (next.has(id) ? [[id, next.get(id)!] as const] : [])))
}
