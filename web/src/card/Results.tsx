/** Every figure the result holds about an element. */
import styled from 'styled-components'
import type { Item } from '../model/items'
import type { Units } from '../model/prefs'
import type { FullColumn, ResultTable } from '../model/results'
import { shown, shownUnit } from '../model/units'
import { how, useBench } from '../session/store'
import { FigureList } from './FigureList'
import { useCardUnits } from './useCardUnits'

const How = styled.button`border: none; background: none; color: ${(p) => p.theme.accent}; padding: 0 0 6px; min-height: 24px; cursor: pointer; text-decoration: underline;`
const Note = styled.p`color: ${(p) => p.theme.quiet};`

const SKIP = new Set(['id', 'name', 'kind', 'area', 'bus', 'from_bus', 'to_bus', 'nominal_kv'])

export function Results({ item }: { item: Item }) {
  const result = useBench((s) => s.result)
  const failed = useBench((s) => s.failed)
  const units = useCardUnits(item)
  const table = Object.values(result?.tables ?? {}).find((t) => t.name !== 'areas' && t.row.has(item.id))
  if (!table) return <Note>This study says nothing about {item.name}.</Note>
  return (
    <>
      {failed && <Note role="status">Out of date: the network as it stands could not be solved.</Note>}
      <How type="button" onClick={() => how(item.id)}>
        How these figures come about
      </How>
      <Figures table={table} id={item.id} units={units} />
    </>
  )
}

function Figures({ table, id, units }: { table: ResultTable; id: string; units: Units }) {
  const row = table.row.get(id)!
  const shown = table.columns.filter((c) => !SKIP.has(c.name))
  return (
    <FigureList>
      {shown.map((c) => (
        <Figure key={c.name} column={c} value={c.values[row]} units={units} />
      ))}
    </FigureList>
  )
}

function Figure({ column, value, units }: { column: FullColumn; value: unknown; units: Units }) {
  const number = typeof value === 'number' || value === null || value === undefined
  const tiny = column.name === 'mismatch_mva' && typeof value === 'number'
  return (
    <>
      <dt title={column.meaning || undefined}>{column.label}</dt>
      <dd>
        {tiny
          ? value.toExponential(1)
          : number
            ? shown(value as number | null, column.unit, column.digits, units)
            : String(value)}
      </dd>
      <dd>{typeof value === 'number' ? shownUnit(column.unit, units) : ''}</dd>
    </>
  )
}
