/** A result table: sifted, sorted by several columns, grouped, virtualised, linked with the selection. */
import { useQuery } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef, useState } from 'react'
import { MenuTrigger } from 'react-aria-components'
import styled from 'styled-components'
import type { Finding } from '../../api/client'
import { feedersQuery } from '../../api/queries'
import { Menu, MenuItem, Pick, Plain, Popover } from '../../design/controls'
import { font } from '../../design/tokens'
import type { Items } from '../../model/items'
import { setPrefs, type Units, usePrefs } from '../../model/prefs'
import type { FullColumn, ResultTable } from '../../model/results'
import { shown, shownUnit } from '../../model/units'
import { lensOf, select, selectMany, useBench } from '../../session/store'
import { Columns } from './Columns'
import { exportTables } from './exports'
import {
  chosenColumns,
  clicked,
  type Grouping,
  grouped,
  groupOf,
  isNumber,
  moved,
  type Sort,
  sorted,
  subtotal,
} from './rows'
import { SiftLine } from './SiftLine'
import { filterLine, joined, useSift } from './sift'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0; height: 100%;`
export const Tools = styled.div`
  display: flex; gap: 6px; align-items: center; padding: 3px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap; min-width: 0;
  @container (max-width: 620px) { flex-wrap: wrap; }
  .label { color: ${(p) => p.theme.quiet}; }
`
const Scroll = styled.div`overflow: auto; min-height: 0; height: 100%; &:focus-visible { outline-offset: -3px; }`
const Grid = styled.div`position: relative; min-width: max-content;`
const Head = styled.div`
  position: sticky; top: 0; z-index: 1; background: ${(p) => p.theme.paper}; border-bottom: 1px solid ${(p) => p.theme.rule};
  > div { display: flex; }
  button {
    border: none; background: transparent; padding: 3px 10px; text-align: inherit; color: ${(p) => p.theme.quiet}; font-size: 12px;
    width: 100%; height: 100%; line-height: 1.25; display: block; font-family: ${font.sans};
  }
  button:focus-visible { outline-offset: -2px; }
  [aria-sort='ascending'] button, [aria-sort='descending'] button { color: ${(p) => p.theme.ink}; font-weight: 500; }
  input {
    width: calc(100% - 8px); margin: 0 4px 3px; height: 22px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 3px; background: ${(p) => p.theme.panel};
    padding: 0 5px; font: 400 11.5px ${font.mono};
  }
`
const HeadRow = styled.div`display: flex;`
const Row = styled.div`
  display: flex; position: absolute; left: 0; right: 0; height: 26px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule};
  cursor: pointer;
  &:hover, &[aria-selected='true'] { background: ${(p) => p.theme.accentWash}; }
  &[data-group] { background: ${(p) => p.theme.paper}; font-weight: 500; cursor: default; }
`
const Cell = styled.div<{ $number: boolean }>`
  padding: 0 10px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; flex: none;
  ${(p) => (p.$number ? `font: 400 12.5px ${font.mono}; text-align: right;` : '')}
`
const ROW = 26

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

type Line = { readonly group: string; readonly rows: readonly number[] } | { readonly row: number }

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
  const { items, selected, chosen, project, wiring } = useBench()
  const prefs = usePrefs()
  const [text, setText] = useState('')
  const [sorts, setSorts] = useState<readonly Sort[]>([])
  const [filters, setFilters] = useState<Readonly<Record<string, string>>>({})
  const [filtering, setFiltering] = useState(false)
  const [outside, setOutside] = useState(false)
  const shownNow = useBench((s) => s.result?.findings)
  const findings = live ? shownNow : own
  const [grouping, setGrouping] = useState<Grouping>('none')
  const columns = chosenColumns(table, full || !live ? undefined : prefs.columns[table.name])
  const numeric = (name: string) => table.columns.some((c) => c.name === name && isNumber(c))
  const sifting = useSift(table.name, joined(text, filterLine(filters, numeric)), address)
  const ids = table.columns[0]!.values as readonly string[]
  const fit = useMemo(() => {
    const wanted = outside ? new Set((findings ?? []).map((f) => f.element)) : null
    const all = sifting.rows ?? Array.from({ length: table.length }, (_, i) => i)
    return all.filter((r) => r < table.length && (!wanted || wanted.has(ids[r]!)))
  }, [sifting.rows, table.length, outside, findings, ids])
  const rows = useMemo(() => sorted(table, fit, sorts), [table, fit, sorts])
  const { data: feeders } = useQuery({
    ...feedersQuery(project?.id ?? '', wiring),
    enabled: grouping === 'feeder' && !!project,
    placeholderData: (last) => last,
  })
  const lines = useMemo((): Line[] => {
    if (grouping === 'none') return rows.map((row) => ({ row }))
    const of = new Map((feeders?.feeders ?? []).flatMap((f) => f.buses.map((b) => [b, f.name] as const)))
    const found = grouped(rows, ids, groupOf(grouping, items, of))
    return found.flatMap((g): Line[] => [{ group: g.name, rows: g.rows }, ...g.rows.map((row) => ({ row }))])
  }, [rows, ids, grouping, feeders, items])
  const setColumns = (names: readonly string[]) =>
    setPrefs({ columns: { ...prefs.columns, [table.name]: names } })
  const list = () => rows.map((r) => ids[r]!)
  return (
    <Frame>
      <Tools>
        <SiftLine
          table={table.name}
          address={address}
          text={text}
          onChange={setText}
          sifting={sifting}
          count={rows.length}
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
          isDisabled={!rows.length}
        >
          Select
        </Plain>
        <Exports
          table={table}
          address={address}
          rows={rows}
          columns={columns}
          all={rows.length === table.length && !sorts.length}
        />
      </Tools>
      <Body
        table={table}
        lines={lines}
        ids={ids}
        columns={columns}
        units={prefs.units}
        items={items}
        marked={chosen.size ? chosen : new Set(selected ? [selected] : [])}
        head={
          <Head>
            <Headings
              columns={columns}
              units={prefs.units}
              sorts={sorts}
              onSorts={setSorts}
              onDrop={(from, onto) => {
                const names = columns.map((c) => c.name)
                if (live) setColumns(moved(names, from, onto))
              }}
            />
            {filtering && (
              <div>
                {columns.map((c) => (
                  <div key={c.name} style={{ width: width(c), flex: 'none' }}>
                    <input
                      aria-label={`Filter ${c.label}`}
                      placeholder={isNumber(c) ? '> 0.9 · 1..2' : 'contains'}
                      value={filters[c.name] ?? ''}
                      onChange={(e) => setFilters({ ...filters, [c.name]: e.currentTarget.value })}
                      onKeyDown={(e) => e.stopPropagation()}
                    />
                  </div>
                ))}
              </div>
            )}
          </Head>
        }
      />
    </Frame>
  )
}

/** A table that belongs to no result: sorted by its headings, its figures shown on the sheet on request. */
export function PlainGrid({ table }: { table: ResultTable }) {
  const { items, selected, chosen } = useBench()
  const units = usePrefs((s) => s.units)
  const [sorts, setSorts] = useState<readonly Sort[]>([])
  const columns = useMemo(() => table.columns.filter((c) => c.name !== 'id'), [table])
  const ids = table.columns[0]!.values as readonly string[]
  const lines = useMemo(
    () =>
      sorted(
        table,
        ids.map((_, i) => i),
        sorts,
      ).map((row) => ({ row })),
    [table, ids, sorts],
  )
  const figures = columns.filter(isNumber)
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
      <Body
        table={table}
        lines={lines}
        ids={ids}
        columns={columns}
        units={units}
        items={items}
        marked={chosen.size ? chosen : new Set(selected ? [selected] : [])}
        head={
          <Head>
            <Headings columns={columns} units={units} sorts={sorts} onSorts={setSorts} />
          </Head>
        }
      />
    </Frame>
  )
}

/** The row of headings: a click sorts, a drag moves the column where columns can be moved. */
function Headings(props: {
  columns: readonly FullColumn[]
  units: Units
  sorts: readonly Sort[]
  onSorts: (sorts: readonly Sort[]) => void
  onDrop?: (from: string, onto: string) => void
}) {
  const { columns, units, sorts, onSorts, onDrop } = props
  return (
    <HeadRow role="row">
      {columns.map((c) => (
        <HeadCell
          key={c.name}
          column={c}
          unit={shownUnit(c.unit, units)}
          sorts={sorts}
          onSort={(further) => onSorts(clicked(sorts, c.name, isNumber(c), further))}
          onDrop={(from) => onDrop?.(from, c.name)}
        />
      ))}
    </HeadRow>
  )
}

function Exports(props: {
  table: ResultTable
  address: string
  rows: readonly number[]
  columns: readonly FullColumn[]
  all: boolean
}) {
  const { table, address, rows, columns, all } = props
  const names = ['id', ...columns.map((c) => c.name)]
  const go = (form: 'csv' | 'xlsx' | 'parquet') =>
    void exportTables([table.name], form, all ? null : rows, names, address)
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

const NOBODY: ReadonlySet<string> = new Set()

function Body(props: {
  table: ResultTable
  lines: readonly Line[]
  ids: readonly string[]
  columns: readonly FullColumn[]
  units: Units
  items: Items
  marked: ReadonlySet<string>
  head: React.ReactNode
}) {
  const { table, lines, ids, columns, units, items } = props
  // Where all rows are of one element, none of them is it.
  const alike = useMemo(() => ids.length > 1 && ids.every((i) => i === ids[0]), [ids])
  const marked = alike ? NOBODY : props.marked
  const selected = useBench((s) => (alike ? null : s.selected))
  const scroll = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 10,
    scrollPaddingStart: 64,
  })
  const at = useMemo(
    () => (selected ? lines.findIndex((l) => 'row' in l && ids[l.row] === selected) : -1),
    [lines, ids, selected],
  )
  const last = useRef<string | null>(null)
  useEffect(() => {
    if (last.current !== selected && at >= 0) virtual.scrollToIndex(at)
    last.current = selected
  }, [selected, at, virtual])
  const step = (by: number) => {
    let next = Math.min(Math.max(at + by, 0), lines.length - 1)
    if (lines[next] && 'group' in lines[next]!) next = Math.min(Math.max(next + by, 0), lines.length - 1)
    const line = lines[next]
    if (line && 'row' in line && items.has(ids[line.row]!)) select(ids[line.row]!, { reveal: true })
  }
  return (
    <Scroll
      ref={scroll}
      tabIndex={0}
      role="grid"
      aria-label={table.label}
      aria-rowcount={lines.length + 1}
      onKeyDown={(e) => {
        if (e.key === 'ArrowDown') step(1)
        else if (e.key === 'ArrowUp') step(-1)
        else return
        e.preventDefault()
      }}
    >
      <Grid role="presentation">
        {props.head}
        <div role="rowgroup" style={{ position: 'relative', height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((v) => {
            const line = lines[v.index]!
            if ('group' in line)
              return (
                <GroupRow
                  key={`group ${line.group}`}
                  line={line}
                  columns={columns}
                  units={units}
                  top={v.start}
                />
              )
            const id = ids[line.row]!
            return (
              <Row
                key={`${id} ${line.row}`}
                role="row"
                aria-rowindex={v.index + 2}
                aria-selected={marked.has(id)}
                style={{ top: v.start }}
                onClick={() => items.has(id) && select(id, { reveal: true })}
              >
                {columns.map((c) => (
                  <Cell key={c.name} role="gridcell" $number={isNumber(c)} style={{ width: width(c) }}>
                    {isNumber(c)
                      ? shown(c.values[line.row] as number | null, c.unit, c.digits, units)
                      : cellOf(items, c, c.values[line.row], id)}
                  </Cell>
                ))}
              </Row>
            )
          })}
        </div>
        {lines.length === 0 && <p style={{ padding: 14 }}>No row fits.</p>}
      </Grid>
    </Scroll>
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

function GroupRow(props: {
  line: { readonly group: string; readonly rows: readonly number[] }
  columns: readonly FullColumn[]
  units: Units
  top: number
}) {
  const { line, columns, units } = props
  return (
    <Row role="row" data-group={line.group} style={{ top: props.top }}>
      {columns.map((c, i) => {
        const total = subtotal(c, line.rows)
        const figure = (v: number) =>
          shown(v, c.unit, c.digits === null || c.digits === undefined ? 2 : Math.min(c.digits, 3), units)
        const said =
          i === 0
            ? `${line.group} · ${line.rows.length}`
            : total === null
              ? ''
              : typeof total === 'number'
                ? figure(total)
                : `${figure(total.low)}…${figure(total.high)}`
        return (
          <Cell
            key={c.name}
            role="gridcell"
            $number={i > 0}
            style={{ width: width(c), fontWeight: 500, fontSize: i ? 11.5 : undefined }}
          >
            {said}
          </Cell>
        )
      })}
    </Row>
  )
}

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

function HeadCell(props: {
  column: FullColumn
  unit: string
  sorts: readonly Sort[]
  onSort: (further: boolean) => void
  onDrop: (from: string) => void
}) {
  const { column, sorts } = props
  const at = sorts.findIndex((s) => s.column === column.name)
  const mine = sorts[at]
  const arrow = mine ? (mine.descending ? ' ↓' : ' ↑') : ''
  return (
    <Cell
      as="div"
      role="columnheader"
      $number={isNumber(column)}
      style={{ width: width(column), padding: 0 }}
      title={[column.meaning, 'Click sorts, Shift and click sorts by it as well; drag to move it.']
        .filter(Boolean)
        .join('. ')}
      aria-sort={mine ? (mine.descending ? 'descending' : 'ascending') : 'none'}
      draggable
      onDragStart={(e) => (e as unknown as DragEvent).dataTransfer?.setData('text/column', column.name)}
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        const from = (e as unknown as DragEvent).dataTransfer?.getData('text/column')
        if (from && from !== column.name) props.onDrop(from)
      }}
    >
      <button type="button" onClick={(e) => props.onSort(e.shiftKey)}>
        {column.label}
        {arrow}
        {mine && sorts.length > 1 ? at + 1 : ''}
        <br />
        {props.unit || '\u00a0'}
      </button>
    </Cell>
  )
}
