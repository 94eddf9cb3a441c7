/** Result tables and data tables, one at a time; each with its sift line. */
import { useQuery } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import styled from 'styled-components'
import { vocabularyQuery } from '../../api/queries'
import { ResultGrid } from '../../features/tables/ResultGrid'
import { hasPhases } from '../model'
import { useBench } from '../store'
import { DataTable } from './DataTable'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%;`
const Bar = styled.div`
  display: flex; gap: 4px; padding: 4px 12px; align-items: center; overflow-x: auto; scrollbar-width: none; white-space: nowrap; i { color: ${(p) => p.theme.quiet}; padding: 0 4px 0 12px; } border-bottom: 1px solid ${(p) => p.theme.rule};
  button { border: none; background: transparent; padding: 2px 8px; border-radius: 4px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
`
/** Kinds that are no equipment but worth a table. */
const LISTED = new Set([
  'line_geometry',
  'line_matrix',
  'current_transformer',
  'relay',
  'own_type',
  'condition',
  'voltage_limits',
  'area',
  'substation',
  'acknowledgement',
])

export function TablesView() {
  const [full, setFull] = useState(false)
  const raw = useBench((s) => s.raw)
  const viewed = useBench((s) => s.result)
  const tables = (full ? raw : viewed)?.tables
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
      {table && (
        <ResultGrid
          key={name}
          table={table}
          full={full}
          onFull={hasPhases(raw) ? () => setFull(!full) : undefined}
        />
      )}
    </Frame>
  )
}
