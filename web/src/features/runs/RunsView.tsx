/** Kept runs: named, noted, pinned, looked at; and a table of what has changed between two of them. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import styled from 'styled-components'
import { answer, client, messageOf } from '../../api/client'
import { compareQuery, isRunsOf, keys, runsQuery } from '../../api/queries'
import type { components } from '../../api/schema'
import { Button, IconButton, Pick, Plain, TextInput } from '../../design/controls'
import { tableOf } from '../../model/results'
import { keepRun, lookAt, pinRun, printed } from '../../session/runs'
import { notify, resultLabel, useBench, useLiveToken, useParts } from '../../session/store'
import { saveFile } from '../../shelf/save'
import { PlainGrid } from '../../shelf/tables/ResultGrid'

type Info = components['schemas']['RunInfoOut']

const Frame = styled.div`display: grid; grid-template-columns: minmax(300px, 38%) minmax(0, 1fr); height: 100%; min-height: 0;`
const Side = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0; border-right: 1px solid ${(p) => p.theme.rule};`
const Bar = styled.div`
  display: flex; gap: 8px; align-items: center; padding: 3px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 34px; white-space: nowrap; min-width: 0; flex-wrap: wrap; input { flex: 1; min-width: 80px; }
  .quiet { color: ${(p) => p.theme.quiet}; }
`
const List = styled.ul`list-style: none; margin: 0; padding: 0; overflow-y: auto; min-height: 0;`
const Row = styled.li`
  display: grid; grid-template-columns: auto minmax(0, 1fr) auto; gap: 0 8px; padding: 5px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; align-items: center;
  &[data-pinned='true'] { background: ${(p) => p.theme.accentWash}; }
  .about { color: ${(p) => p.theme.quiet}; font-size: 12px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  .name { font-weight: 500; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; border: none; background: none; padding: 0; text-align: left; }
  > input[type='checkbox'] { grid-row: 1 / 3; } .about { grid-column: 2; } .acts { display: flex; grid-row: 1 / 3; grid-column: 3; }
`
const None = styled.p`padding: 14px 16px; color: ${(p) => p.theme.quiet};`

/** Runs with voltages and flows of the whole network, which can be pinned and looked at. */
const isFlow = (study: string) => study === 'load_flow' || study === 'unbalanced'

export function useRuns() {
  const project = useBench((s) => s.project?.id)
  const kept = useBench((s) => s.runsKept)
  return useQuery({
    // A pin is kept while the list may be open or on its way: the count makes such a list be asked for again.
    ...runsQuery(project ?? '', kept),
    placeholderData: (before, query) => (query && isRunsOf(query.queryKey, project) ? before : undefined),
    enabled: !!project,
    refetchOnMount: 'always',
  })
}

export function RunsView() {
  const { project, pinned } = useParts('project', 'pinned')
  const cache = useQueryClient()
  const { data: runs = [] } = useRuns()
  const [name, setName] = useState('')
  const [chosen, setChosen] = useState<readonly string[]>([])
  const put = (id: string) =>
    setChosen(chosen.includes(id) ? chosen.filter((c) => c !== id) : [...chosen, id])
  const listed = runs.filter((r) => chosen.includes(r.id))
  const print = () =>
    void printed(
      `${project?.name}: ${listed.map((r) => r.name).join(', ')}`.slice(0, 120),
      chosen.map((id) => ({ address: `run-${id}` })),
      saveFile,
    )
  const refresh = () => cache.invalidateQueries({ queryKey: keys.runs(project?.id) })
  const keep = async () => {
    await keepRun(name.trim() || resultLabel())
    setName('')
  }
  return (
    <Frame>
      <Side>
        <Bar>
          <TextInput
            aria-label="Name of the run"
            placeholder={resultLabel()}
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            onKeyDown={(e) => {
              e.stopPropagation()
              if (e.key === 'Enter') void keep()
            }}
          />
          <Button onPress={() => void keep()}>Keep this result</Button>
          <Button onPress={print} isDisabled={!listed.length} aria-label="Document of the chosen runs">
            Document{listed.length ? ` of ${listed.length}` : ''}
          </Button>
        </Bar>
        <List aria-label="Kept runs">
          {runs.map((r) => (
            <RunRow
              key={r.id}
              run={r}
              pinned={pinned?.run === r.id}
              refresh={refresh}
              chosen={chosen.includes(r.id)}
              choose={() => put(r.id)}
            />
          ))}
          {runs.length === 0 && (
            <None>
              No run is kept yet. Keep the result on the screen, or pin it (P), and every view shows the
              difference from it.
            </None>
          )}
        </List>
      </Side>
      <Compare runs={runs.filter((r) => isFlow(r.study))} />
    </Frame>
  )
}

interface RowProps {
  readonly run: Info
  readonly pinned: boolean
  readonly refresh: () => Promise<void>
  /** Whether it stands in the document that can be made of several. */
  readonly chosen: boolean
  readonly choose: () => void
}

function RunRow({ run, pinned, refresh, chosen, choose }: RowProps) {
  const project = useBench((s) => s.project?.id) ?? ''
  const [editing, setEditing] = useState<'name' | 'note' | null>(null)
  const params = { path: { project_id: project, run_id: run.id } }
  const describe = async (values: { name?: string; note?: string }) => {
    setEditing(null)
    try {
      await answer(client.PATCH('/api/projects/{project_id}/runs/{run_id}', { params, body: values }))
      await refresh()
    } catch (error) {
      notify('problem', messageOf(error))
    }
  }
  const forget = async () => {
    await client.DELETE('/api/projects/{project_id}/runs/{run_id}', { params })
    if (pinned) useBench.setState({ pinned: null })
    await refresh()
  }
  const flow = isFlow(run.study)
  return (
    <Row data-pinned={pinned}>
      <input
        type="checkbox"
        aria-label={`${run.name} in the document`}
        title="In the document"
        checked={chosen}
        onChange={choose}
      />
      {editing ? (
        <TextInput
          aria-label={editing === 'name' ? 'Name' : 'Note'}
          defaultValue={run[editing]}
          ref={(el) => el?.focus()}
          onBlur={(e) =>
            void describe({ [editing]: e.currentTarget.value || (editing === 'name' ? run.name : '') })
          }
          onKeyDown={(e) => {
            e.stopPropagation()
            if (e.key === 'Enter') e.currentTarget.blur()
            if (e.key === 'Escape') setEditing(null)
          }}
        />
      ) : (
        <button type="button" className="name" title="Rename" onClick={() => setEditing('name')}>
          {run.name}
        </button>
      )}
      <span className="about" title={run.note}>
        {run.condition} · revision {run.revision} ·{' '}
        {new Date(run.at).toLocaleString('en-GB', { dateStyle: 'short', timeStyle: 'short' })}
        {run.note ? ` · ${run.note}` : ''}
      </span>
      <span className="acts">
        <IconButton icon="edit" label={`Note to ${run.name}`} onPress={() => setEditing('note')} />
        {flow && (
          <IconButton
            icon="pin"
            label={pinned ? 'Unpin' : `Pin ${run.name}`}
            onPress={() => (pinned ? useBench.setState({ pinned: null }) : void pinRun(run.id, run.name))}
          />
        )}
        {flow && (
          <IconButton
            icon="look"
            label={`Look at the network as it stood at ${run.name}`}
            onPress={() => void lookAt(run.id)}
          />
        )}
        <IconButton icon="close" label={`Remove ${run.name}`} onPress={() => void forget()} />
      </span>
    </Row>
  )
}

/** Before, after and change of one quantity, the largest change first. */
function Compare({ runs }: { runs: readonly Info[] }) {
  const { project, pinned } = useParts('project', 'pinned')
  const [before, setBefore] = useState<string | null>(null)
  const [after, setAfter] = useState('now')
  const [what, setWhat] = useState('')
  const first = before ?? pinned?.run ?? runs[0]?.id ?? null
  const [tableName = '', quantity = ''] = what.split(' ')
  const token = useLiveToken()
  const address = (id: string | null) => (id === null || id === 'now' ? 'live' : `run-${id}`)
  const { data, error } = useQuery({
    ...compareQuery(project?.id ?? '', address(first), address(after), token, tableName, quantity),
    enabled: !!project && first !== null,
    placeholderData: (last) => last,
  })
  const now = { id: 'now', label: 'now' }
  const choices = runs.map((r) => ({ id: r.id, label: r.name }))
  const table = useMemo(() => data && tableOf(data.table), [data])
  if (first === null) return <None>Keep two results to lay them side by side.</None>
  return (
    <Side>
      <Bar>
        <Pick label="Before" value={first} choices={choices} onChange={setBefore} />
        <Pick label="after" value={after} choices={[now, ...choices]} onChange={setAfter} />
        <Pick
          label="Quantity"
          hideLabel
          value={data?.chosen ?? null}
          choices={(data?.quantities ?? []).map((q) => ({
            id: `${q.table} ${q.name}`,
            label: `${q.label}${q.unit ? ` ${q.unit}` : ''}, ${q.table.replaceAll('_', ' ')}`,
          }))}
          onChange={setWhat}
        />
        {data && (
          <span className="quiet">
            findings +{data.findings_gained.length} −{data.findings_lost.length}
          </span>
        )}
        <IconButton
          icon="look"
          label="The difference on the sheet"
          onPress={() => useBench.setState({ lens: 'difference' })}
          isDisabled={!pinned}
        />
        <Plain
          aria-label="Document of the comparison"
          onPress={() =>
            void printed(
              `${project?.name}: before and after`,
              [{ address: address(after), before: address(first) }],
              saveFile,
            )
          }
        >
          Document
        </Plain>
      </Bar>
      {error && <None role="alert">{messageOf(error)}</None>}
      {table && !error && <PlainGrid key={data?.chosen} table={table} />}
    </Side>
  )
}
