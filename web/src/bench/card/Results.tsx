/** Every figure the result holds about an element. */
import styled from 'styled-components'
import { cell } from '../../design/format'
import { font } from '../../design/tokens'
import type { FullColumn, Item, ResultTable } from '../model'
import { useBench } from '../store'

const List = styled.dl`
  display: grid; grid-template-columns: 1fr auto 44px; margin: 0;
  dt, dd { margin: 0; padding: 5px 0; border-bottom: 1px solid ${(p) => p.theme.rule}; }
  dt { color: ${(p) => p.theme.quiet}; }
  dd { font: 400 12.5px ${font.mono}; text-align: right; }
  dd + dd { text-align: left; padding-left: 6px; color: ${(p) => p.theme.quiet}; }
`
const Note = styled.p`color: ${(p) => p.theme.quiet};`

const SKIP = new Set(['id', 'name', 'kind', 'area', 'bus', 'from_bus', 'to_bus', 'nominal_kv'])

export function Results({ item }: { item: Item }) {
  const result = useBench((s) => s.result)
  const failed = useBench((s) => s.failed)
  const table = Object.values(result?.tables ?? {}).find((t) => t.name !== 'areas' && t.row.has(item.id))
  if (!table) return <Note>This study says nothing about {item.name}.</Note>
  return (
    <>
      {failed && <Note role="status">Out of date: the network as it stands could not be solved.</Note>}
      <Figures table={table} id={item.id} />
    </>
  )
}

function Figures({ table, id }: { table: ResultTable; id: string }) {
  const row = table.row.get(id)!
  const shown = table.columns.filter((c) => !SKIP.has(c.name))
  return (
    <List>
      {shown.map((c) => (
        <Figure key={c.name} column={c} value={c.values[row]} />
      ))}
    </List>
  )
}

function Figure({ column, value }: { column: FullColumn; value: unknown }) {
  const number = typeof value === 'number' || value === null || value === undefined
  const tiny = column.name === 'mismatch_mva' && typeof value === 'number'
  return (
    <>
      <dt title={column.meaning || undefined}>{column.label}</dt>
      <dd>
        {tiny ? value.toExponential(1) : number ? cell(value as number | null, column.digits) : String(value)}
      </dd>
      <dd>{column.unit ?? ''}</dd>
    </>
  )
}
