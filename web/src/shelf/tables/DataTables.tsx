/** The data of every kind of equipment as tables, to be read, sifted and edited. */
import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import type { Kind } from '../../api/client'
import { vocabularyQuery } from '../../api/queries'
import { Pick } from '../../design/controls'
import { createAlone } from '../../session/create'
import { useKept } from '../../session/kept'
import { select, useBench } from '../../session/store'
import { useSize } from '../plotFrame'
import { Bar, Frame } from './Bar'
import { DataTable } from './DataTable'

/** What "3 more …" and "new …" take at the end of the row. */
const ROOM_OF_PICKS = 190
const widthOf = (title: string) => title.length * 7.4 + 22

/** Kinds that fit into one row, those with most elements first; the others are behind a list. */
function fitting(
  kinds: readonly Kind[],
  chosen: Kind | undefined,
  count: ReadonlyMap<string, number>,
  titled: (k: Kind) => string,
  room: number,
): readonly Kind[] {
  const weight = (k: Kind) => (k === chosen ? Number.POSITIVE_INFINITY : (count.get(k.kind) ?? 0))
  let left = room
  const beside = new Set(
    [...kinds]
      .sort((a, b) => weight(b) - weight(a))
      .filter((k) => {
        left -= widthOf(titled(k))
        return left >= 0
      }),
  )
  return kinds.filter((k) => beside.has(k))
}

export function DataTables() {
  const { frame, size } = useSize()
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
  const titled = (k: Kind) => `${k.plural} ${count.get(k.kind)}`
  const beside = fitting(data, kind, count, titled, size.width - ROOM_OF_PICKS)
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Data" ref={frame}>
        {beside.map((k) => (
          <button type="button" key={k.kind} aria-pressed={k === kind} onClick={() => setName(k.kind)}>
            {titled(k)}
          </button>
        ))}
        {beside.length < data.length && (
          <Pick
            label="More tables"
            hideLabel
            placeholder={`${data.length - beside.length} more …`}
            value={null}
            choices={data.filter((k) => !beside.includes(k)).map((k) => ({ id: k.kind, label: titled(k) }))}
            onChange={setName}
          />
        )}
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
