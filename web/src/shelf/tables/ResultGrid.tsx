/** A result table: sifted, sorted by several columns, grouped, virtualised, linked with the selection. */
import { useQuery } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import { MenuTrigger } from 'react-aria-components'
import styled from 'styled-components'
import type { Finding } from '../../api/client'
import { feedersQuery } from '../../api/queries'
import { Menu, MenuItem, Pick, Plain, Popover } from '../../design/controls'
import type { Items } from '../../model/items'
import { setPrefs, type Units, usePrefs } from '../../model/prefs'
import type { FullColumn, ResultTable } from '../../model/results'
import { shown, shownUnit } from '../../model/units'
import { lensOf, select, selectMany, useBench, useParts } from '../../session/store'
import { Columns } from './Columns'
import { exportTables } from './exports'
import { Frame, Grid, useGrid } from './Grid'
import type { GridColumn } from './gridModel'
import { chosenColumns, type Grouping, groupOf, isNumber, moved, subtotal } from './rows'
import { SiftLine } from './SiftLine'
import { filterLine, joined, useSift } from './sift'

export const Tools = styled.div`
  display: flex; gap: 6px; align-items: center; padding: 3px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap; min-width: 0;
  @container (max-width: 620px) { flex-wrap: wrap; }
  .label { color: ${(p) => p.theme.quiet}; }
`
/** Wide enough for its heading, within reason. */
const width = (c: FullColumn) =>
  c.name === 'name' ? 190 : isNumber(c) ? Math.min(Math.max(96, 22 + 6.6 * c.label.length), 170) : 120

const GROUPINGS: { id: Grouping; label: string }[] = [
  { id: 'none', label: 'no groups' },
  { id: 'area', label: 'by area' },
  { id: 'substation', label: 'by substation' },
  { id: 'feeder', label: 'by feeder' },
  { id: 'level', label: 'by voltage' },
  { id: 'kind', label: 'by kind' },
]

interface Props {
  readonly table: ResultTable
  /** Whose table it is: what is on the screen, or a result under an address of its own. */
  readonly address?: string
  readonly findings?: readonly Finding[]
  /** Every column is shown, of all ways of looking at a result. */
  readonly full?: boolean
  /** Turns that on and off; undefined where there are no phases to tell apart. */
  readonly onFull?: (() => void) | undefined
}

export function ResultGrid({ table, address = 'live', findings: own, full = false, onFull }: Props) {
  const live = address === 'live'
  const { items, project, wiring } = useParts('items', 'project', 'wiring')
  const prefs = usePrefs()
  const [text, setText] = useState('')
  const [filters, setFilters] = useState<Readonly<Record<string, string>>>({})
  const [filtering, setFiltering] = useState(false)
  const [outside, setOutside] = useState(false)
  const shownNow = useBench((s) => s.result?.findings)
  const findings = live ? shownNow : own
  const [grouping, setGrouping] = useState<Grouping>('none')
  const wanted = full || !live ? undefined : prefs.columns[table.name]
  const columns = useMemo(() => chosenColumns(table, wanted), [table, wanted])
  const numeric = (name: string) => table.columns.some((c) => c.name === name && isNumber(c))
  const sifting = useSift(table.name, joined(text, filterLine(filters, numeric)), address)
  const ids = table.columns[0]!.values as readonly string[]
  const fit = useMemo(() => {
    const breaking = outside ? new Set((findings ?? []).map((f) => f.element)) : null
    const all = sifting.rows ?? Array.from({ length: table.length }, (_, i) => i)
    return all.filter((r) => r < table.length && (!breaking || breaking.has(ids[r]!)))
  }, [sifting.rows, table.length, outside, findings, ids])
  const { data: feeders } = useQuery({
    ...feedersQuery(project?.id ?? '', wiring),
    enabled: grouping === 'feeder' && !!project,
    placeholderData: (last) => last,
  })
  const group = useMemo(() => {
    if (grouping === 'none') return null
    const of = new Map((feeders?.feeders ?? []).flatMap((f) => f.buses.map((b) => [b, f.name] as const)))
    const named = groupOf(grouping, items, of)
    return (row: number) => named(ids[row]!)
  }, [ids, grouping, feeders, items])
  const gridColumns = useMemo(() => shaped(columns, prefs.units), [columns, prefs.units])
  const grid = useGrid({ columns: gridColumns, rows: fit, groupOf: group })
  const setColumns = (names: readonly string[]) =>
    setPrefs({ columns: { ...prefs.columns, [table.name]: names } })
  const list = () => grid.order().map((r) => ids[r]!)
  return (
    <Frame>
      <Tools>
        <SiftLine
          table={table.name}
          address={address}
          text={text}
          onChange={setText}
          sifting={sifting}
          count={fit.length}
          total={table.length}
        />
        <Pick
          label="Groups"
          hideLabel
          value={grouping}
          choices={GROUPINGS}
          onChange={(g) => setGrouping(g as Grouping)}
        />
        {!!findings?.length && (
          <Plain aria-pressed={outside} onPress={() => setOutside(!outside)}>
            {outside ? 'Every row' : 'Outside limits'}
          </Plain>
        )}
        {onFull && (
          <Plain aria-pressed={full} onPress={onFull}>
            {full ? 'Usual columns' : 'Every conductor'}
          </Plain>
        )}
        <Plain onPress={() => setFiltering(!filtering)}>{filtering ? 'Hide filters' : 'Filters'}</Plain>
        {live && <Columns table={table} />}
        <Plain
          aria-label="Select on the sheet"
          onPress={() => selectMany(list(), { reveal: true })}
          isDisabled={!fit.length}
        >
          Select
        </Plain>
        <Exports
          table={table}
          address={address}
          order={grid.order}
          columns={columns}
          all={fit.length === table.length && !grid.sorts.length}
        />
      </Tools>
      <Grid
        grid={grid}
        label={table.label}
        ids={ids}
        cell={said(table, prefs.units, items)}
        summed={summed(table, prefs.units)}
        onDrop={
          live
            ? (from, onto) =>
                setColumns(
                  moved(
                    columns.map((c) => c.name),
                    from,
                    onto,
                  ),
                )
            : undefined
        }
        under={
          filtering && (
            <div>
              {gridColumns.map((c) => (
                <div key={c.name} style={{ width: c.width, flex: 'none' }}>
                  <input
                    aria-label={`Filter ${c.label}`}
                    placeholder={c.figure ? '> 0.9 · 1..2' : 'contains'}
                    value={filters[c.name] ?? ''}
                    onChange={(e) => setFilters({ ...filters, [c.name]: e.currentTarget.value })}
                    onKeyDown={(e) => e.stopPropagation()}
                  />
                </div>
              ))}
            </div>
          )
        }
      />
    </Frame>
  )
}

/** The columns of a result as a grid takes them. */
const shaped = (columns: readonly FullColumn[], units: Units): GridColumn[] =>
  columns.map((c) => ({
    name: c.name,
    label: c.label,
    unit: shownUnit(c.unit, units),
    width: width(c),
    figure: isNumber(c),
    meaning: c.meaning,
    value: (row) => c.values[row],
    subtotal: (rows) => subtotal(c, rows),
  }))

const of = (table: ResultTable, column: GridColumn) => table.columns.find((c) => c.name === column.name)!

/** What a cell says. */
const said = (table: ResultTable, units: Units, items: Items) => (column: GridColumn, row: number) => {
  const c = of(table, column)
  return isNumber(c)
    ? shown(c.values[row] as number | null, c.unit, c.digits, units)
    : cellOf(items, c, c.values[row], String(table.columns[0]!.values[row]))
}

/** What a group comes to, with no more digits than a sum needs. */
const summed = (table: ResultTable, units: Units) => (column: GridColumn, total: unknown) => {
  const c = of(table, column)
  const figure = (v: number) =>
    shown(v, c.unit, c.digits === null || c.digits === undefined ? 2 : Math.min(c.digits, 3), units)
  if (typeof total === 'number') return figure(total)
  const span = total as { low: number; high: number } | null | undefined
  return span ? `${figure(span.low)}…${figure(span.high)}` : ''
}

/** A table that belongs to no result: sorted by its headings, its figures shown on the sheet on request. */
export function PlainGrid({ table }: { table: ResultTable }) {
  const items = useBench((s) => s.items)
  const units = usePrefs((s) => s.units)
  const ids = table.columns[0]!.values as readonly string[]
  const columns = useMemo(
    () =>
      shaped(
        table.columns.filter((c) => c.name !== 'id'),
        units,
      ),
    [table, units],
  )
  const rows = useMemo(() => ids.map((_, i) => i), [ids])
  const grid = useGrid({ columns, rows })
  const figures = table.columns.filter((c) => c.name !== 'id' && isNumber(c))
  return (
    <Frame>
      <Tools>
        {figures.length > 0 && (
          <Pick
            label="On the sheet"
            hideLabel
            placeholder="on the sheet"
            value={null}
            choices={figures.map((c) => ({ id: c.name, label: c.label }))}
            onChange={(name) => {
              const column = figures.find((c) => c.name === name)
              if (column) lensOf(ids, column)
            }}
          />
        )}
      </Tools>
      <Grid grid={grid} label={table.label} ids={ids} cell={said(table, units, items)} />
    </Frame>
  )
}

function Exports(props: {
  table: ResultTable
  address: string
  order: () => readonly number[]
  columns: readonly FullColumn[]
  all: boolean
}) {
  const { table, address, order, columns, all } = props
  const names = ['id', ...columns.map((c) => c.name)]
  const go = (form: 'csv' | 'xlsx' | 'parquet') =>
    void exportTables([table.name], form, all ? null : order(), names, address)
  return (
    <MenuTrigger>
      <Plain>Export …</Plain>
      <Popover placement="top end">
        <Menu
          aria-label="Export"
          onAction={(key) =>
            key === 'all' ? void exportTables([], 'xlsx', null, null, address) : go(key as 'csv')
          }
        >
          <MenuItem id="csv">These rows as CSV</MenuItem>
          <MenuItem id="xlsx">These rows as XLSX</MenuItem>
          <MenuItem id="parquet">These rows as Parquet, in MW, A and p.u.</MenuItem>
          <MenuItem id="all">All result tables as one XLSX</MenuItem>
        </Menu>
      </Popover>
    </MenuTrigger>
  )
}

/** A word; the name of another element than the row is about leads to it. */
function cellOf(items: Items, column: FullColumn, value: unknown, row: string) {
  const said = words(items, column, value)
  if (typeof value !== 'string' || value === row || !items.has(value) || column.name === 'name') return said
  return (
    <Leads
      type="button"
      onClick={(e) => {
        e.stopPropagation()
        select(value, { reveal: true })
      }}
    >
      {said}
    </Leads>
  )
}

const Leads = styled.button`
  border: none; background: none; padding: 0; font: inherit; color: ${(p) => p.theme.accent}; cursor: pointer; min-height: 24px;
  max-width: 100%; overflow: hidden; text-overflow: ellipsis; white-space: nowrap;
`

/** Names in place of ids. */
function words(items: Items, column: FullColumn, value: unknown): string {
  if (value === null || value === undefined) return '–'
  const refers =
    column.name === 'area' ||
    column.name.endsWith('bus') ||
    column.label === 'Area' ||
    column.name.endsWith('_at')
  return refers ? (items.get(String(value))?.name ?? String(value)) : String(value)
}
