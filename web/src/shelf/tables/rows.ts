/** Which rows a table shows, in which order and groups. Plain functions; no React. */
import { busesOf, type Items, number, text } from '../../model/items'
import type { FullColumn, ResultTable } from '../../model/results'

export interface Sort {
  readonly column: string
  readonly descending: boolean
}

export const isNumber = (c: FullColumn) => c.digits !== null && c.digits !== undefined

/** Rows by several columns; blanks last, equal ones in the order they had. */
export function sorted(table: ResultTable, rows: readonly number[], sorts: readonly Sort[]): number[] {
  const columns = sorts.flatMap((s) => {
    const c = table.columns.find((x) => x.name === s.column)
    return c ? [{ values: c.values, sign: s.descending ? -1 : 1 }] : []
  })
  if (!columns.length) return [...rows]
  const blank = (v: unknown) => v === null || v === undefined
  const compare = (x: unknown, y: unknown, sign: number) => {
    if (blank(x) || blank(y)) return blank(x) === blank(y) ? 0 : blank(x) ? 1 : -1
    if (typeof x === 'number' && typeof y === 'number') return sign * (x - y)
    return sign * String(x).localeCompare(String(y), undefined, { numeric: true })
  }
  return [...rows].sort((a, b) => {
    for (const { values, sign } of columns) {
      const by = compare(values[a], values[b], sign)
      if (by) return by
    }
    return a - b
  })
}

/** Sorting after a click on a heading: by it alone, or (with Shift) by it as well. Three clicks take it away. */
export function clicked(sorts: readonly Sort[], column: string, numeric: boolean, further: boolean): Sort[] {
  const old = sorts.find((s) => s.column === column)
  const next: Sort | null = !old
    ? { column, descending: numeric }
    : old.descending === numeric
      ? { column, descending: !numeric }
      : null
  const others = further ? sorts.filter((s) => s.column !== column) : []
  if (!next) return others
  const at = sorts.findIndex((s) => s.column === column)
  return further && at >= 0 ? sorts.map((s) => (s.column === column ? next : s)) : [...others, next]
}

export type Grouping = 'none' | 'area' | 'substation' | 'feeder' | 'level' | 'kind'

/** The group each row belongs to, by the first bus of its element. */
export function groupOf(
  grouping: Grouping,
  items: Items,
  feederOf: ReadonlyMap<string, string>,
): (id: string) => string {
  return (id) => {
    const item = items.get(id)
    if (!item) return '–'
    if (grouping === 'kind') return item.kind.replaceAll('_', ' ')
    const bus = item.kind === 'bus' ? item : items.get(busesOf(item)[0] ?? '')
    if (!bus) return '–'
    if (grouping === 'feeder') {
      const far = item.kind === 'bus' ? item.id : (busesOf(item).findLast((b) => feederOf.has(b)) ?? '')
      return feederOf.get(far) ?? 'no feeder'
    }
    if (grouping === 'level') {
      const kv = number(bus, 'nominal_kv')
      return kv === undefined ? 'not given' : `${kv} kV`
    }
    const named = text(bus, grouping)
    return items.get(named)?.name ?? (named || `no ${grouping}`)
  }
}

export interface Group {
  readonly name: string
  readonly rows: readonly number[]
}

export function grouped(
  rows: readonly number[],
  ids: readonly string[],
  of: (id: string) => string,
): Group[] {
  const found = new Map<string, number[]>()
  for (const r of rows) {
    const name = of(ids[r]!)
    const list = found.get(name)
    if (list) list.push(r)
    else found.set(name, [r])
  }
  return [...found]
    .sort(([a], [b]) => b.localeCompare(a, undefined, { numeric: true }) * (/ kV$/.test(a) ? 1 : -1))
    .map(([name, list]) => ({ name, rows: list }))
}

const SUMMED = new Set(['MW', 'Mvar', 'MVA', 'kW'])

/** What a column comes to in a group: a sum of powers, the span of everything else. */
export function subtotal(
  column: FullColumn,
  rows: readonly number[],
): { low: number; high: number } | number | null {
  if (!isNumber(column) || column.name === 'nominal_kv') return null
  const known = rows.map((r) => column.values[r]).filter((v): v is number => typeof v === 'number')
  if (!known.length) return null
  if (SUMMED.has(column.unit ?? '')) return known.reduce((a, b) => a + b, 0)
  let low = known[0]!
  let high = low
  for (const v of known) {
    if (v < low) low = v
    if (v > high) high = v
  }
  return { low, high }
}

/** Columns in the order somebody has chosen; all of them where nothing is chosen. */
export function chosenColumns(table: ResultTable, chosen: readonly string[] | undefined): FullColumn[] {
  const usual = table.columns.filter((c) => !HIDDEN.has(c.name))
  if (!chosen) return usual
  return chosen.flatMap((n) => table.columns.filter((c) => c.name === n))
}

const HIDDEN = new Set(['id', 'mismatch_mva'])

export const moved = (list: readonly string[], from: string, before: string | null): string[] => {
  const rest = list.filter((c) => c !== from)
  const at = before === null ? rest.length : rest.indexOf(before)
  return at < 0 ? [...list] : [...rest.slice(0, at), from, ...rest.slice(at)]
}
