/** Order and groups of a table's rows, by TanStack Table: what a grid shows, from above to below. No React. */
import {
  type ColumnDef,
  columnGroupingFeature,
  constructAggregationFn,
  createExpandedRowModel,
  createGroupedRowModel,
  createSortedRowModel,
  type Row,
  rowAggregationFeature,
  rowExpandingFeature,
  rowSortingFeature,
  tableFeatures,
} from '@tanstack/react-table'

/** A row is a place in the columns: columns hold whole arrays, and nothing is copied to make rows of them. */
export interface GridColumn {
  readonly name: string
  readonly label: string
  readonly unit: string
  readonly width: number
  readonly figure: boolean
  readonly meaning?: string | null | undefined
  /** What rows are put in order by; null and undefined go last, whichever way. */
  readonly value: (row: number) => unknown
  /** What the column comes to in a group of rows. */
  readonly subtotal?: (rows: readonly number[]) => unknown
}

export const FEATURES = tableFeatures({
  rowSortingFeature,
  sortedRowModel: createSortedRowModel(),
  columnGroupingFeature,
  groupedRowModel: createGroupedRowModel(),
  rowAggregationFeature,
  rowExpandingFeature,
  expandedRowModel: createExpandedRowModel(),
})

/** A row as the library holds it: where it stands in the columns. */
export interface Place {
  readonly at: number
}
export type GridRow = Row<typeof FEATURES, Place>
type Definition = ColumnDef<typeof FEATURES, Place, unknown>

/** The column that holds the name of a row's group; it is not drawn. */
export const GROUP = 'group of the row'

/** Spans and blanks have no order of their own: what has them stays where it was. */
export function compared(x: unknown, y: unknown): number {
  if (typeof x === 'number' && typeof y === 'number') return x - y
  if (typeof x === 'object' || typeof y === 'object') return 0
  return String(x).localeCompare(String(y), undefined, { numeric: true })
}

const byValue = (a: GridRow, b: GridRow, column: string) => compared(a.getValue(column), b.getValue(column))

/** Rows group by group: voltage levels from the highest, other groups by the alphabet. */
export function inGroups(rows: readonly number[], groupOf: ((row: number) => string) | null): number[] {
  if (!groupOf) return [...rows]
  const names = new Map(rows.map((r) => [r, groupOf(r)]))
  const level = / kV$/
  const order = [...new Set(names.values())].sort(
    (x, y) => compared(x, y) * (level.test(x) && level.test(y) ? -1 : 1),
  )
  const place = new Map(order.map((name, i) => [name, i]))
  return [...rows].sort((a, b) => place.get(names.get(a)!)! - place.get(names.get(b)!)!)
}

/** Columns as the table library takes them. `groupOf` names the group of a row, where rows are grouped. */
export function definitions(
  columns: readonly GridColumn[],
  groupOf: ((row: number) => string) | null,
): Definition[] {
  const shown = columns.map(
    (c): Definition => ({
      id: c.name,
      accessorFn: ({ at }) => c.value(at) ?? undefined,
      sortFn: byValue,
      sortUndefined: 'last',
      sortDescFirst: c.figure,
      aggregationFn: constructAggregationFn({
        aggregate: ({ rows }) => c.subtotal?.(rows.map((r) => (r.original as Place).at)) ?? undefined,
      }),
    }),
  )
  if (!groupOf) return shown
  return [{ id: GROUP, accessorFn: ({ at }) => groupOf(at) }, ...shown]
}
