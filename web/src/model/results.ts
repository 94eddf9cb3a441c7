/** Results as the bench holds them: tables by columns. Plain data; no React. */
import type { Column, Live } from '../api/client'
import type { Way } from './prefs'

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

/** A whole table of the service with the row of every element. */
export function tableOf(table: { name: string; label: string; columns: readonly Column[] }): ResultTable {
  const columns = table.columns.map((c): FullColumn => ({ ...c, values: c.values ?? [] }))
  const ids = (columns[0]?.values ?? []) as string[]
  return {
    name: table.name,
    label: table.label,
    columns,
    length: ids.length,
    row: new Map(ids.map((id, i) => [id, i])),
  }
}

/** A result per phase as it is looked at: the columns of that way, and what stands for a quantity as a whole.

Of several columns that stand for one, the figure farthest from 1 counts. A balanced result stays as it is. */
export function viewed(result: Result, way: Way): Result {
  const split = Object.values(result.tables).some((t) => t.columns.some((c) => c.view))
  if (!split) return result
  const parts = new Map(
    (result.quantities ?? []).map((q) => [`${q.table} ${q.name}`, q.parts?.[way] ?? []] as const),
  )
  const tables: Record<string, ResultTable> = {}
  for (const [name, table] of Object.entries(result.tables)) {
    const columns = table.columns
      .filter((c) => !c.view || c.view === way)
      .map((c) => {
        const others = (parts.get(`${name} ${c.name}`) ?? []).flatMap(
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
