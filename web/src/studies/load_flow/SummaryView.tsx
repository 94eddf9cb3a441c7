/** Totals by area, substation, feeder and voltage level; losses by kind and level; what automatic control did. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import { summariesQuery } from '../../api/queries'
import { ControlList } from '../../card/ControlList'
import { font } from '../../design/tokens'
import { usePrefs } from '../../model/prefs'
import { shownUnit } from '../../model/units'
import { useBench, useLiveToken } from '../../session/store'
import { FigureCell } from '../../shelf/FigureCell'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%; min-height: 0;`
const Bar = styled.div`
  display: flex; gap: 4px; padding: 4px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; align-items: center;
  button { border: none; background: transparent; padding: 2px 8px; min-height: 24px; border-radius: 4px; color: ${(p) => p.theme.quiet}; white-space: nowrap; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  .space { flex: 1; } .total { color: ${(p) => p.theme.quiet}; white-space: nowrap; font-size: 12px; }
`
const Scroll = styled.div`
  overflow: auto; min-height: 0; padding-bottom: 8px; &:focus-visible { outline-offset: -3px; }
  table { border-collapse: collapse; font: 400 12.5px ${font.mono}; }
  th { position: sticky; top: 0; background: ${(p) => p.theme.paper}; font: 400 12px/1.25 ${font.sans}; color: ${(p) => p.theme.quiet}; z-index: 1; }
  th, td { padding: 3px 10px; text-align: right; white-space: nowrap; border-bottom: 1px solid ${(p) => p.theme.rule}; }
  th:first-child, td:first-child { text-align: left; padding-left: 16px; font-family: ${font.sans}; }
  td button { border: none; background: none; padding: 0; font: 400 12.5px ${font.sans}; color: ${(p) => p.theme.accent}; cursor: pointer; min-height: 24px; }
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

export function SummaryView() {
  const project = useBench((s) => s.project)
  const units = usePrefs((s) => s.units)
  const [view, setView] = useState<string>('by_area')
  const token = useLiveToken()
  const { data } = useQuery({
    ...summariesQuery(project?.id ?? '', 'live', token),
    enabled: !!project && view !== 'control',
    placeholderData: keepPreviousData,
  })
  const table = data?.tables[view]
  const columns = (table?.columns ?? []).filter((c) => !HIDDEN.has(c.name) || view.startsWith('losses'))
  const rows = table?.columns[0]?.values ?? []
  const named = columns.some((c) => c.name === 'name')
  const cols = named ? columns : (table?.columns ?? [])
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
        <Scroll tabIndex={0} role="region" aria-label="Totals">
          {rows.length === 0 && <p style={{ padding: 14 }}>Nothing belongs to such a group yet.</p>}
          {rows.length > 0 && (
            <table>
              <thead>
                <tr>
                  {cols.map((c) => (
                    <th key={c.name} title={c.meaning || undefined}>
                      {c.label}
                      <br />
                      {shownUnit(c.unit, units) || '\u00a0'}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {rows.map((id, r) => (
                  <tr key={String(id)}>
                    {cols.map((c) => (
                      <FigureCell
                        key={c.name}
                        column={c}
                        value={c.values?.[r]}
                        text={(v) => v.replaceAll('_', ' ')}
                      />
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </Scroll>
      )}
    </Frame>
  )
}
