/** The grid of every table: order by its headings, groups, only the rows in sight, the selection. */
import { type SortingState, useTable } from '@tanstack/react-table'
import { useVirtualizer } from '@tanstack/react-virtual'
import { type ReactNode, useEffect, useMemo, useRef, useState } from 'react'
import styled from 'styled-components'
import { font } from '../../design/tokens'
import { select, useParts } from '../../session/store'
import { definitions, FEATURES, GROUP, type GridColumn, type GridRow, inGroups } from './gridModel'

export const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0; height: 100%;`
const Scroll = styled.div`overflow: auto; min-height: 0; height: 100%; &:focus-visible { outline-offset: -3px; }`
const Rows = styled.div`position: relative; min-width: max-content;`
const Head = styled.div`
  position: sticky; top: 0; z-index: 1; background: ${(p) => p.theme.paper}; border-bottom: 1px solid ${(p) => p.theme.rule};
  > div { display: flex; }
  button {
    border: none; background: transparent; padding: 3px 10px; text-align: inherit; color: ${(p) => p.theme.quiet}; font-size: 12px;
    width: 100%; height: 100%; line-height: 1.25; display: block; white-space: normal; font-family: ${font.sans};
  }
  button:focus-visible { outline-offset: -2px; }
  [aria-sort='ascending'] button, [aria-sort='descending'] button { color: ${(p) => p.theme.ink}; font-weight: 500; }
  input {
    width: calc(100% - 8px); margin: 0 4px 3px; height: 22px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 3px; background: ${(p) => p.theme.panel};
    padding: 0 5px; font: 400 11.5px ${font.mono};
  }
`
const HeadRow = styled.div`display: flex;`
const Line = styled.div`
  display: flex; position: absolute; left: 0; right: 0; height: 26px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule};
  cursor: pointer;
  &:hover, &[aria-selected='true'] { background: ${(p) => p.theme.accentWash}; }
  &[data-group] { background: ${(p) => p.theme.paper}; font-weight: 500; cursor: default; }
`
export const Cell = styled.div<{ $number: boolean }>`
  padding: 0 10px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; flex: none;
  ${(p) => (p.$number ? `font: 400 12.5px ${font.mono}; text-align: right;` : '')}
  &[data-origin='typical'] { color: ${(p) => p.theme.watchInk}; } &[data-missing='true'] { color: ${(p) => p.theme.breach}; }
  > input { width: 100%; border: 1px solid ${(p) => p.theme.accent}; background: ${(p) => p.theme.panel}; font: inherit; text-align: inherit; padding: 0 3px; }
`
const ROW = 26
const ROOM_OF_HEADINGS = 64

interface Asked {
  readonly columns: readonly GridColumn[]
  /** Places in the columns, in the order they have where nothing is sorted. */
  readonly rows: readonly number[]
  readonly groupOf?: ((row: number) => string) | null
}

/** The rows of a table in order and groups, with what changes the order. */
export function useGrid({ columns, rows, groupOf = null }: Asked) {
  const [sorting, setSorting] = useState<SortingState>([])
  const made = useMemo(() => definitions(columns, groupOf), [columns, groupOf])
  const grouping = useMemo(() => (groupOf ? [GROUP] : []), [groupOf])
  // Values are kept with the rows: rows are new where the columns are others.
  // biome-ignore lint/correctness/useExhaustiveDependencies: as said
  const data = useMemo(() => inGroups(rows, groupOf).map((at) => ({ at })), [rows, columns, groupOf])
  const table = useTable({
    features: FEATURES,
    columns: made,
    data,
    getRowId: (place) => String(place.at),
    state: { sorting, grouping, expanded: true },
    onSortingChange: setSorting,
  })
  const lines = table.getRowModel().rows
  const order = () => lines.filter((l) => !l.subRows.length).map((l) => l.original.at)
  const toggle = (column: string, further: boolean) =>
    table.getColumn(column)?.toggleSorting(undefined, further)
  const units = columns.some((c) => c.unit)
  return { columns, lines, order, units, sorts: sorting, toggle }
}

type Made = ReturnType<typeof useGrid>
const NOBODY: ReadonlySet<string> = new Set()

interface Drawn {
  readonly grid: Made
  readonly label: string
  readonly ids: readonly string[]
  readonly cell: (column: GridColumn, row: number) => ReactNode
  /** What a group's row says of a column. */
  readonly summed?: (column: GridColumn, total: unknown) => string
  /** What tells a cell apart: where its figure comes from, whether it is missing. */
  readonly marks?: (column: GridColumn, row: number) => Record<string, unknown>
  readonly onOpen?: (column: GridColumn, row: number) => void
  readonly onDrop?: ((from: string, onto: string) => void) | undefined
  readonly under?: ReactNode
  readonly empty?: ReactNode
  readonly own?: React.HTMLAttributes<HTMLDivElement> & Record<`data-${string}`, string>
}

export function Grid(props: Drawn) {
  const { grid, ids, cell } = props
  const { lines, columns } = grid
  const { items, chosen, selected: one } = useParts('items', 'chosen', 'selected')
  // Where all rows are of one element, none of them is it.
  const alike = useMemo(() => ids.length > 1 && ids.every((i) => i === ids[0]), [ids])
  const selected = alike ? null : one
  const marked = useMemo(
    () => (alike ? NOBODY : chosen.size ? chosen : new Set(one ? [one] : [])),
    [alike, chosen, one],
  )
  const scroll = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 10,
    scrollPaddingStart: ROOM_OF_HEADINGS,
  })
  const at = useMemo(
    () => (selected ? lines.findIndex((l) => !l.subRows.length && ids[l.original.at] === selected) : -1),
    [lines, ids, selected],
  )
  const last = useRef<string | null>(null)
  useEffect(() => {
    if (last.current !== selected && at >= 0) virtual.scrollToIndex(at)
    last.current = selected
  }, [selected, at, virtual])
  const step = (by: number) => {
    const within = (n: number) => Math.min(Math.max(n, 0), lines.length - 1)
    let next = within(at + by)
    if (lines[next]?.subRows.length) next = within(next + by)
    const line = lines[next]
    if (line && !line.subRows.length && items.has(ids[line.original.at]!))
      select(ids[line.original.at]!, { reveal: true })
  }
  return (
    <Scroll
      ref={scroll}
      tabIndex={0}
      role="grid"
      aria-label={props.label}
      aria-rowcount={lines.length + 1}
      {...props.own}
      onKeyDown={(e) => {
        props.own?.onKeyDown?.(e)
        if (e.target instanceof HTMLInputElement) return
        if (e.key === 'ArrowDown') step(1)
        else if (e.key === 'ArrowUp') step(-1)
        else return
        e.preventDefault()
      }}
    >
      <Rows role="presentation">
        <Head>
          <HeadRow role="row">
            {columns.map((c) => (
              <HeadCell key={c.name} column={c} grid={grid} onDrop={props.onDrop} />
            ))}
          </HeadRow>
          {props.under}
        </Head>
        <div role="rowgroup" style={{ position: 'relative', height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((v) => {
            const line = lines[v.index]!
            if (line.subRows.length)
              return <GroupLine key={line.id} line={line} top={v.start} {...props} columns={columns} />
            const row = line.original.at
            const id = ids[row]!
            return (
              <Line
                key={`${id} ${row}`}
                role="row"
                aria-rowindex={v.index + 2}
                aria-selected={marked.has(id)}
                style={{ top: v.start }}
                onClick={() => items.has(id) && select(id, { reveal: true })}
              >
                {columns.map((c) => (
                  <Cell
                    key={c.name}
                    role="gridcell"
                    $number={c.figure}
                    style={{ width: c.width }}
                    onDoubleClick={props.onOpen && (() => props.onOpen?.(c, row))}
                    {...props.marks?.(c, row)}
                  >
                    {cell(c, row)}
                  </Cell>
                ))}
              </Line>
            )
          })}
        </div>
        {lines.length === 0 && <p style={{ padding: 14 }}>{props.empty ?? 'No row fits.'}</p>}
      </Rows>
    </Scroll>
  )
}

function GroupLine(props: {
  line: GridRow
  columns: readonly GridColumn[]
  top: number
  summed?: Drawn['summed']
}) {
  const { line, columns, summed } = props
  return (
    <Line role="row" data-group={String(line.getValue(GROUP))} style={{ top: props.top }}>
      {columns.map((c, i) => (
        <Cell
          key={c.name}
          role="gridcell"
          $number={i > 0}
          style={{ width: c.width, fontWeight: 500, fontSize: i ? 11.5 : undefined }}
        >
          {i === 0
            ? `${String(line.getValue(GROUP))} · ${line.subRows.length}`
            : summed?.(c, line.getValue(c.name))}
        </Cell>
      ))}
    </Line>
  )
}

/** A heading: a click sorts, a drag moves the column where columns can be moved. */
function HeadCell(props: { column: GridColumn; grid: Made; onDrop?: Drawn['onDrop'] }) {
  const { column, grid, onDrop } = props
  const at = grid.sorts.findIndex((s) => s.id === column.name)
  const mine = grid.sorts[at]
  const arrow = mine ? (mine.desc ? ' ↓' : ' ↑') : ''
  const how = `Click sorts, Shift and click sorts by it as well${onDrop ? '; drag to move it' : ''}.`
  return (
    <Cell
      role="columnheader"
      $number={column.figure}
      style={{ width: column.width, padding: 0 }}
      title={[column.meaning?.replace(/\.$/, ''), how].filter(Boolean).join('. ')}
      aria-sort={mine ? (mine.desc ? 'descending' : 'ascending') : 'none'}
      draggable={!!onDrop}
      onDragStart={(e) => e.dataTransfer.setData('text/column', column.name)}
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        const from = e.dataTransfer.getData('text/column')
        if (from && from !== column.name) onDrop?.(from, column.name)
      }}
    >
      <button type="button" onClick={(e) => grid.toggle(column.name, e.shiftKey)}>
        {column.label}
        {arrow}
        {mine && grid.sorts.length > 1 ? at + 1 : ''}
        {grid.units && (
          <>
            <br />
            {column.unit || '\u00a0'}
          </>
        )}
      </button>
    </Cell>
  )
}
