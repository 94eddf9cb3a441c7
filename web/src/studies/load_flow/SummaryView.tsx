/** Totals by area, substation, feeder and voltage level; losses by kind and level; what automatic control did. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import styled from 'styled-components'
import { summariesQuery } from '../../api/queries'
import { ControlList } from '../../card/ControlList'
import { tableOf } from '../../model/results'
import { useBench, useLiveToken } from '../../session/store'
import { PlainGrid } from '../../shelf/tables/ResultGrid'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%; min-height: 0;`
const Bar = styled.div`
  display: flex; gap: 4px; padding: 4px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; align-items: center;
  button { border: none; background: transparent; padding: 2px 8px; min-height: 24px; border-radius: 4px; color: ${(p) => p.theme.quiet}; white-space: nowrap; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  .space { flex: 1; } .total { color: ${(p) => p.theme.quiet}; white-space: nowrap; font-size: 12px; }
`
const VIEWS = [
  ['by_area', 'Areas'],
  ['by_substation', 'Substations'],
  ['by_feeder', 'Feeders'],
  ['by_level', 'Voltage levels'],
  ['losses_by_kind', 'Losses by kind'],
  ['losses_by_level', 'Losses by voltage'],
  ['control', 'Control'],
] as const

const HIDDEN = new Set(['id', 'generation_mvar', 'demand_mvar', 'reactive_loss_mvar'])

/** A table of totals as it is listed: what a row is about stands first. */
function listed(found: Parameters<typeof tableOf>[0], view: string) {
  const whole = tableOf(found)
  const [id] = whole.columns
  const named = whole.columns.some((c) => c.name === 'name')
  const first = id && !named ? [{ ...id, name: 'name', values: id.values.map(inWords) }] : []
  const columns = whole.columns.filter((c) => !HIDDEN.has(c.name) || view.startsWith('losses'))
  return { ...whole, columns: [...(id ? [id] : []), ...first, ...columns.filter((c) => c.name !== 'id')] }
}

const inWords = (value: unknown) => String(value ?? '').replaceAll('_', ' ')

export function SummaryView() {
  const project = useBench((s) => s.project)
  const [view, setView] = useState<string>('by_area')
  const token = useLiveToken()
  const { data } = useQuery({
    ...summariesQuery(project?.id ?? '', 'live', token),
    enabled: !!project && view !== 'control',
    placeholderData: keepPreviousData,
  })
  const found = data?.tables[view]
  const table = useMemo(() => found && listed(found, view), [found, view])
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Summary">
        {VIEWS.map(([id, label]) => (
          <button type="button" key={id} aria-pressed={view === id} onClick={() => setView(id)}>
            {label}
          </button>
        ))}
      </Bar>
      {view === 'control' ? (
        <ControlList />
      ) : (
        table &&
        (table.length ? (
          <PlainGrid key={view} table={table} />
        ) : (
          <p style={{ padding: 14 }}>Nothing belongs to such a group yet.</p>
        ))
      )}
    </Frame>
  )
}
