/** Schemes: the stack of cures on the present network, what each changes, comparison and phase balancing. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import { layersQuery } from '../../api/queries'
import { Button, IconButton, Plain } from '../../design/controls'
import type { Item } from '../../model/items'
import { number, text } from '../../model/items'
import {
  createScheme,
  duplicateScheme,
  entriesOf,
  mergeScheme,
  record,
  recordingOf,
  removeScheme,
  reorder,
  schemesOf,
  switchScheme,
} from '../../session/schemes'
import { useBench, useParts } from '../../session/store'
import { Changes } from './Changes'

const Frame = styled.div`display: grid; grid-template-columns: 340px minmax(0, 1fr); min-height: 0; > ul { border-right: 1px solid ${(p) => p.theme.rule}; }`
const Whole = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%; min-height: 0; > * { min-height: 0; }`
const Bar = styled.div`
  display: flex; gap: 6px; align-items: center; padding: 3px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 34px; white-space: nowrap;
  .space { flex: 1; } .recording { color: ${(p) => p.theme.breach}; }
  button[aria-pressed] { padding: 0 9px; height: 26px; color: ${(p) => p.theme.quiet}; } button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
`
const List = styled.ul`list-style: none; margin: 0; padding: 0; overflow-y: auto; min-height: 0;`
const Row = styled.li`
  display: grid; grid-template-columns: auto minmax(0, 1fr) auto; gap: 0 8px; padding: 4px 8px 4px 12px; border-bottom: 1px solid ${(p) => p.theme.rule};
  align-items: center; border-left: 3px solid transparent;
  &[data-chosen='true'] { background: ${(p) => p.theme.accentWash}; } &[data-recording='true'] { border-left-color: ${(p) => p.theme.breach}; }
  .name { font-weight: 500; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; border: none; background: none; padding: 0; text-align: left; min-height: 24px; }
  .about { grid-column: 2; color: ${(p) => p.theme.quiet}; font-size: 12px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  .acts { grid-row: 1 / 3; grid-column: 3; display: flex; }
`
const None = styled.p`padding: 14px 16px; color: ${(p) => p.theme.quiet}; max-width: 560px;`

export function SchemesView() {
  const { items, project, revision, scheme } = useParts('items', 'project', 'revision', 'scheme')
  const list = schemesOf(items)
  const chosen = list.find((s) => s.id === scheme) ?? list[0]
  const recording = recordingOf(items)
  const { data: layers } = useQuery({
    ...layersQuery(project?.id ?? '', revision),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  return (
    <Whole>
      <Bar role="toolbar" aria-label="Schemes">
        <span className="space" />
        {recording && (
          <>
            <span className="recording">edits go into {items.get(recording)?.name}</span>
            <Plain onPress={() => void record(null)}>Stop recording</Plain>
          </>
        )}
        <Button
          onPress={async () => {
            const id = await createScheme('Scheme')
            if (id) useBench.setState({ scheme: id })
          }}
        >
          New scheme
        </Button>
      </Bar>
      <Frame>
        <List aria-label="Schemes">
          {list.map((s) => (
            <SchemeRow
              key={s.id}
              scheme={s}
              chosen={s.id === chosen?.id}
              recording={recording === s.id}
              trouble={
                (layers?.unfit.filter((u) => u.scheme === s.id).length ?? 0) +
                (layers?.clashes.filter((c) => c.earlier === s.id || c.later === s.id).length ?? 0)
              }
            />
          ))}
          {list.length === 0 && (
            <None>
              A scheme holds changes on top of the present network, which they never overwrite. Make one and
              record edits into it, or let phase balancing hand one over.
            </None>
          )}
        </List>
        {chosen ? (
          <Changes key={chosen.id} scheme={chosen} schemes={list} layers={layers} />
        ) : (
          <None>No scheme yet. The present network is what is shown and edited.</None>
        )}
      </Frame>
    </Whole>
  )
}

interface RowProps {
  readonly scheme: Item
  readonly chosen: boolean
  readonly recording: boolean
  readonly trouble: number
}

function SchemeRow({ scheme, chosen, recording, trouble }: RowProps) {
  const [sure, setSure] = useState(false)
  const cost = number(scheme, 'cost_k')
  const year = number(scheme, 'year')
  const count = entriesOf(scheme).length
  const about = [
    text(scheme, 'state'),
    `${count} ${count === 1 ? 'change' : 'changes'}`,
    cost !== undefined ? `cost ${cost} k` : '',
    year !== undefined ? String(year) : '',
    trouble ? `${trouble} to look at` : '',
  ].filter(Boolean)
  return (
    <Row data-chosen={chosen} data-recording={recording}>
      <input
        type="checkbox"
        aria-label={`${scheme.name} on`}
        checked={scheme.active === true}
        onChange={() => void switchScheme(scheme)}
      />
      <button type="button" className="name" onClick={() => useBench.setState({ scheme: scheme.id })}>
        {scheme.name}
        {recording ? ' · recording' : ''}
      </button>
      <span className="about">{about.join(' · ')}</span>
      <span className="acts">
        {sure ? (
          <>
            <Plain onPress={() => void mergeScheme(scheme).then(() => setSure(false))}>Merge</Plain>
            <Plain onPress={() => setSure(false)}>Not now</Plain>
          </>
        ) : (
          <>
            <IconButton
              icon={recording ? 'close' : 'edit'}
              label={recording ? `Stop recording into ${scheme.name}` : `Record edits into ${scheme.name}`}
              onPress={() => void record(recording ? null : scheme)}
            />
            <IconButton
              icon="up"
              label={`${scheme.name} earlier in the stack`}
              onPress={() => void reorder(scheme, -1)}
            />
            <IconButton
              icon="down"
              label={`${scheme.name} later in the stack`}
              onPress={() => void reorder(scheme, 1)}
            />
            <IconButton
              icon="plus"
              label={`Duplicate ${scheme.name}`}
              onPress={() => void duplicateScheme(scheme)}
            />
            <IconButton
              icon="sheet"
              label={`Merge ${scheme.name} into the network`}
              onPress={() => setSure(true)}
            />
            <IconButton
              icon="bin"
              label={`Remove ${scheme.name}`}
              onPress={() => void removeScheme(scheme)}
            />
          </>
        )}
      </span>
    </Row>
  )
}
