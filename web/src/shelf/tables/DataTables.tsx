/** The data of every kind of equipment as tables, to be read, sifted and edited. */
import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import { vocabularyQuery } from '../../api/queries'
import { Pick } from '../../design/controls'
import { createAlone } from '../../session/create'
import { useKept } from '../../session/kept'
import { select, useBench } from '../../session/store'
import { Bar, Frame } from './Bar'
import { DataTable } from './DataTable'

export function DataTables() {
  const items = useBench((s) => s.items)
  const kinds = useQuery(vocabularyQuery).data?.kinds ?? []
  const count = useMemo(() => {
    const found = new Map<string, number>()
    for (const i of items.values()) found.set(i.kind, (found.get(i.kind) ?? 0) + 1)
    return found
  }, [items])
  const [name, setName] = useKept('data table', 'bus')
  const data = kinds.filter((k) => k.listed && count.get(k.kind))
  const kind = data.find((k) => k.kind === name) ?? data[0]
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Data">
        {data.map((k) => (
          <button type="button" key={k.kind} aria-pressed={k === kind} onClick={() => setName(k.kind)}>
            {k.plural} {count.get(k.kind)}
          </button>
        ))}
        <Pick
          label="New"
          hideLabel
          placeholder="new …"
          value={null}
          choices={kinds.filter((k) => k.alone).map((k) => ({ id: k.kind, label: k.label }))}
          onChange={(name) => {
            const wanted = kinds.find((k) => k.kind === name)
            if (!wanted) return
            setName(name)
            void createAlone(wanted).then((id) => id && select(id))
          }}
        />
      </Bar>
      {kind && <DataTable key={kind.kind} kind={kind} />}
    </Frame>
  )
}
