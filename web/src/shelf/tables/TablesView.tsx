/** Result tables of the present state, one at a time, each with its sift line. */
import { useState } from 'react'
import { hasPhases } from '../../model/results'
import { useKept } from '../../session/kept'
import { useBench } from '../../session/store'
import { Bar, Frame } from './Bar'
import { ResultGrid } from './ResultGrid'

export function TablesView() {
  const [full, setFull] = useState(false)
  const raw = useBench((s) => s.raw)
  const viewed = useBench((s) => s.result)
  const tables = (full ? raw : viewed)?.tables
  const [name, setName] = useKept('table', 'buses')
  const table = tables?.[name]
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Table">
        {Object.values(tables ?? {}).map((t) => (
          <button type="button" key={t.name} aria-pressed={t.name === name} onClick={() => setName(t.name)}>
            {t.label} {t.length}
          </button>
        ))}
      </Bar>
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
