/** Result tables: sortable, virtualised, linked with the selection. */
import { useQuery } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef, useState } from 'react'
import styled from 'styled-components'
import { vocabularyQuery } from '../../api/queries'
import { cell } from '../../design/format'
import { font } from '../../design/tokens'
import type { FullColumn, ResultTable } from '../model'
import { select, useBench } from '../store'
import { DataTable } from './DataTable'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%;`
const Bar = styled.div`
  display: flex; gap: 4px; padding: 4px 12px; align-items: center; overflow-x: auto; scrollbar-width: none; white-space: nowrap; i { color: ${(p) => p.theme.quiet}; padding: 0 4px 0 12px; } border-bottom: 1px solid ${(p) => p.theme.rule};
  button { border: none; background: transparent; padding: 2px 8px; border-radius: 4px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
`
const Scroll = styled.div`overflow: auto; min-height: 0; height: 100%; &:focus-visible { outline-offset: -3px; }`
const Grid = styled.div`position: relative; min-width: max-content;`
const Head = styled.div`
  display: flex; position: sticky; top: 0; z-index: 1; background: ${(p) => p.theme.paper}; border-bottom: 1px solid ${(p) => p.theme.rule};
  button {
    border: none; background: transparent; padding: 3px 10px; text-align: inherit; color: ${(p) => p.theme.quiet}; font-size: 12px;
    width: 100%; height: 100%; line-height: 1.25; display: block; font-family: ${font.sans};
  }
  button:focus-visible { outline-offset: -2px; }
  [aria-sort='ascending'] button, [aria-sort='descending'] button { color: ${(p) => p.theme.ink}; font-weight: 500; }
`
const Row = styled.div`
  display: flex; position: absolute; left: 0; right: 0; height: 26px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule};
  cursor: pointer;
  &:hover, &[aria-selected='true'] { background: ${(p) => p.theme.accentWash}; }
`
const Cell = styled.div<{ $number: boolean }>`
  padding: 0 10px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; flex: none;
  ${(p) => (p.$number ? `font: 400 12.5px ${font.mono}; text-align: right;` : '')}
`

const ROW = 26
const HIDDEN = new Set(['id', 'mismatch_mva'])

interface Sort {
  readonly column: string
  readonly descending: boolean
}

/** Kinds that are no equipment but worth a table. */
const LISTED = new Set(['line_geometry', 'current_transformer', 'relay', 'own_type'])

export function TablesView() {
  const tables = useBench((s) => s.result?.tables)
  const [name, setName] = useState('buses')
  const items = useBench((s) => s.items)
  const kinds = useQuery(vocabularyQuery).data?.kinds ?? []
  const count = useMemo(() => {
    const found = new Map<string, number>()
    for (const i of items.values()) found.set(i.kind, (found.get(i.kind) ?? 0) + 1)
    return found
  }, [items])
  const data = kinds.filter((k) => (k.element || LISTED.has(k.kind)) && count.get(k.kind))
  const table = tables?.[name]
  const kind = data.find((k) => `data ${k.kind}` === name)
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Table">
        {Object.values(tables ?? {}).map((t) => (
          <button type="button" key={t.name} aria-pressed={t.name === name} onClick={() => setName(t.name)}>
            {t.label} {t.length}
          </button>
        ))}
        {data.length > 0 && <i>data</i>}
        {data.map((k) => (
          <button
            type="button"
            key={k.kind}
            aria-pressed={`data ${k.kind}` === name}
            onClick={() => setName(`data ${k.kind}`)}
          >
            {k.plural} {count.get(k.kind)}
          </button>
        ))}
      </Bar>
      {kind && <DataTable key={kind.kind} kind={kind} />}
      {table && <Table key={name} table={table} />}
    </Frame>
  )
}

const isNumber = (c: FullColumn) => c.digits !== null && c.digits !== undefined
const width = (c: FullColumn) => (c.name === 'name' ? 190 : isNumber(c) ? 96 : 120)

function order(table: ResultTable, sort: Sort | null): number[] {
  const rows = Array.from({ length: table.length }, (_, i) => i)
  const column = sort && table.columns.find((c) => c.name === sort.column)
  if (!column) return rows
  const { values } = column
  const sign = sort.descending ? -1 : 1
  const blank = (v: unknown) => v === null || v === undefined
  return rows.sort((a, b) => {
    const [x, y] = [values[a], values[b]]
    if (blank(x) || blank(y)) return blank(x) === blank(y) ? a - b : blank(x) ? 1 : -1
    if (typeof x === 'number' && typeof y === 'number') return sign * (x - y) || a - b
    return sign * String(x).localeCompare(String(y), undefined, { numeric: true }) || a - b
  })
}

function Table({ table }: { table: ResultTable }) {
  const [sort, setSort] = useState<Sort | null>(null)
  const { items, selected } = useBench()
  const scroll = useRef<HTMLDivElement>(null)
  const rows = useMemo(() => order(table, sort), [table, sort])
  const columns = table.columns.filter((c) => !HIDDEN.has(c.name))
  const ids = table.columns[0]!.values as readonly string[]
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 10,
    scrollPaddingStart: 40,
  })
  const at = selected ? rows.findIndex((r) => ids[r] === selected) : -1
  const chosen = useRef<string | null>(null)
  useEffect(() => {
    if (chosen.current !== selected && at >= 0) virtual.scrollToIndex(at)
    chosen.current = selected
  }, [selected, at, virtual])
  const step = (by: number) => {
    const next = rows[Math.min(Math.max(at + by, 0), rows.length - 1)]
    if (next !== undefined && items.has(ids[next]!)) select(ids[next]!, { reveal: true })
  }
  return (
    <Scroll
      ref={scroll}
      tabIndex={0}
      role="grid"
      aria-label={table.label}
      aria-rowcount={table.length + 1}
      onKeyDown={(e) => {
        if (e.key === 'ArrowDown') step(1)
        else if (e.key === 'ArrowUp') step(-1)
        else return
        e.preventDefault()
      }}
    >
      <Grid role="presentation">
        <Head role="row">
          {columns.map((c) => (
            <HeadCell key={c.name} column={c} sort={sort} onSort={setSort} />
          ))}
        </Head>
        <div role="rowgroup" style={{ position: 'relative', height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((v) => {
            const row = rows[v.index]!
            const id = ids[row]!
            return (
              <Row
                key={id}
                role="row"
                aria-rowindex={v.index + 2}
                aria-selected={id === selected}
                style={{ top: v.start }}
                onClick={() => items.has(id) && select(id, { reveal: true })}
              >
                {columns.map((c) => (
                  <Cell key={c.name} role="gridcell" $number={isNumber(c)} style={{ width: width(c) }}>
                    {isNumber(c)
                      ? cell(c.values[row] as number | null, c.digits)
                      : words(items, c, c.values[row])}
                  </Cell>
                ))}
              </Row>
            )
          })}
        </div>
      </Grid>
    </Scroll>
  )
}

/** Names in place of ids. */
function words(items: ReadonlyMap<string, { name: string }>, column: FullColumn, value: unknown): string {
  if (value === null || value === undefined) return '–'
  const refers = column.name === 'area' || column.name.endsWith('bus') || column.label === 'Area'
  return refers ? (items.get(String(value))?.name ?? String(value)) : String(value)
}

function HeadCell({
  column,
  sort,
  onSort,
}: {
  column: FullColumn
  sort: Sort | null
  onSort: (sort: Sort | null) => void
}) {
  const mine = sort?.column === column.name
  const numeric = isNumber(column)
  const next = (): Sort | null => {
    if (!mine) return { column: column.name, descending: numeric }
    return sort.descending === numeric ? { column: column.name, descending: !numeric } : null
  }
  return (
    <Cell
      as="div"
      role="columnheader"
      $number={numeric}
      style={{ width: width(column), padding: 0 }}
      title={column.meaning || undefined}
      aria-sort={mine ? (sort.descending ? 'descending' : 'ascending') : 'none'}
    >
      <button type="button" onClick={() => onSort(next())}>
        {column.label}
        {mine ? (sort.descending ? ' ↓' : ' ↑') : ''}
        <br />
        {column.unit ?? '\u00a0'}
      </button>
    </Cell>
  )
}
