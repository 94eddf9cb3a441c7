/** Which columns a table shows, which group a row is in, what a group comes to. Plain functions; no React. */
import { busesOf, type Items, number, text } from '../../model/items'
import type { FullColumn, ResultTable } from '../../model/results'

export const isNumber = (c: FullColumn) => c.digits !== null && c.digits !== undefined

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
