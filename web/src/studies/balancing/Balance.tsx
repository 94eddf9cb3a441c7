/** Phase balancing: what is balanced and how; the answer is a scheme. */
import { useQuery } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import styled from 'styled-components'
import { supplyQuery } from '../../api/queries'
import { Button, Pick, Primary } from '../../design/controls'
import { fixed, parseNumber } from '../../design/format'
import { font } from '../../design/tokens'
import { tableOf } from '../../model/results'
import { useKept } from '../../session/kept'
import { updateOrTell } from '../../session/queue'
import { pin } from '../../session/runs'
import { createScheme } from '../../session/schemes'
import { useBench, useSettings } from '../../session/store'
import { openView } from '../../shelf/desks'
import { PlainGrid } from '../../shelf/tables/ResultGrid'
import { type StudyResult, useStudy } from '../useStudy'

const Frame = styled.div`display: grid; grid-template-columns: 322px minmax(0, 1fr); min-height: 0; height: 100%;`
const Form = styled.div`
  overflow-y: auto; padding: 6px 14px 12px; border-right: 1px solid ${(p) => p.theme.rule}; display: grid; gap: 4px; align-content: start;
  .row { display: flex; justify-content: space-between; gap: 8px; align-items: center; min-height: 26px; } .quiet { color: ${(p) => p.theme.quiet}; font-size: 12px; }
  .short { width: 72px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.panel}; padding: 0 6px; height: 26px; text-align: right; font: 400 12px ${font.mono}; } progress { width: 100%; accent-color: ${(p) => p.theme.accent}; }
  .problem { color: ${(p) => p.theme.breach}; } h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin-top: 4px; } .acts { display: flex; gap: 6px; padding-top: 4px; }
  label.check { display: flex; gap: 6px; align-items: center; min-height: 24px; }
`
const Answer = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0; overflow: hidden;`
const Said = styled.div`padding: 6px 14px; border-bottom: 1px solid ${(p) => p.theme.rule}; display: grid; gap: 4px; .quiet { color: ${(p) => p.theme.quiet}; font-size: 12px; } .acts { display: flex; gap: 8px; align-items: center; } .stale { color: ${(p) => p.theme.breach}; }`
const Scroll = styled.div`
  overflow: auto; min-height: 0; display: grid; gap: 12px; align-content: start; justify-items: start; padding-bottom: 12px;
  table { border-collapse: collapse; font: 400 12.5px ${font.mono}; } th { position: sticky; top: 0; background: ${(p) => p.theme.paper}; font: 400 12px/1.25 ${font.sans}; color: ${(p) => p.theme.quiet}; z-index: 1; }
  th, td { padding: 2px 10px; text-align: right; border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap; } th:first-child, td:first-child { text-align: left; padding-left: 14px; font-family: ${font.sans}; }
  td button, th button { border: none; background: none; padding: 0; color: ${(p) => p.theme.accent}; font: 400 12.5px ${font.sans}; cursor: pointer; min-height: 24px; }
`
const Moves = styled.div`width: 100%; height: 240px;`
const None = styled.div`padding: 14px 16px; color: ${(p) => p.theme.quiet}; max-width: 520px; display: grid; gap: 10px; justify-items: start;`

const OBJECTIVES = [
  { id: 'mix', label: 'a mix of all' },
  { id: 'head', label: 'power unbalance at the head' },
  { id: 'branches', label: 'unbalance of branches by length' },
  { id: 'squares', label: 'squares of it by length' },
  { id: 'losses', label: 'losses' },
  { id: 'neutral', label: 'highest neutral current' },
  { id: 'voltage', label: 'highest voltage unbalance' },
]
const METHODS = [
  { id: 'automatic', label: 'automatic' },
  { id: 'exact', label: 'exact' },
  { id: 'exchange', label: 'exchange' },
  { id: 'genetic', label: 'genetic' },
  { id: 'mixed_integer', label: 'mixed-integer' },
]
const WEIGHTS = [
  ['head', 'power at the head'],
  ['branches', 'power in branches'],
  ['squares', 'its squares'],
  ['losses', 'losses'],
  ['neutral', 'neutral current'],
  ['voltage', 'voltage unbalance'],
] as const
const MOVES = [
  ['move_single', 'single-phase loads and plants'],
  ['move_laterals', 'laterals'],
  ['move_pairs', 'loads between two phases'],
  ['move_three', 'unequal three-phase loads and plants'],
  ['keep_rotation', 'keep phase rotation'],
] as const

export function Balance() {
  const { project, items, selected, chosen, revision } = useBench()
  const settings = useSettings()
  const study = useStudy('balancing')
  const [objective, setObjective] = useKept('balance objective', 'mix')
  const [method, setMethod] = useKept('balance method', 'automatic')
  const [flags, setFlags] = useKept<Record<string, boolean>>(
    'balance flags',
    Object.fromEntries(MOVES.map(([m]) => [m, true])),
  )
  const [numbers, setNumbers] = useKept<Record<string, string>>('balance numbers', {
    most_changes: '',
    change_cost_pct: '1',
    time_limit_s: '300',
    seed: '1',
    exclude_tag: '',
    ...Object.fromEntries(WEIGHTS.map(([w]) => [`weight_${w}`, w === 'squares' ? '0' : '1'])),
  })
  const conditions = [...items.values()].filter((i) => i.kind === 'condition')
  const now = String(settings?.condition ?? '')
  const [wanted, setWanted] = useKept<readonly string[] | null>('balance conditions', null)
  const under = wanted ?? [now]
  const item = items.get(selected ?? '')
  // A branch is the head itself; of a bus or load it is the transformer that feeds it.
  const heads = [...items.values()].filter((i) => i.kind === 'transformer' || i.kind === 'line')
  const own =
    item && (item.kind === 'transformer' || item.kind === 'line') && chosen.size < 2 ? item.id : null
  const [head, setHead] = useKept<string | null>('balance head', null)
  const { data: supply } = useQuery({
    ...supplyQuery(project?.id ?? '', revision, selected ?? ''),
    enabled: !!project && !!item && !own,
  })
  const above = supply?.path.find((id) => id !== selected && items.get(id)?.kind === 'transformer')
  const feeder = head ?? own ?? above ?? null
  const within = chosen.size > 1 ? [...chosen].filter((id) => items.get(id)?.kind === 'bus') : []
  const start = () => {
    const figures = Object.fromEntries(
      Object.entries(numbers).flatMap(([k, v]) =>
        v.trim() === '' || k === 'exclude_tag' ? [] : [[k, parseNumber(v)]],
      ),
    )
    void study.run({
      feeder: feeder ?? '',
      buses: within,
      objective,
      method,
      ...flags,
      ...figures,
      exclude_tag: numbers.exclude_tag ?? '',
      conditions: [...under],
    })
  }
  const entry = (name: string, label: string, title?: string) => (
    <label className="row" title={title}>
      {label}
      <input
        className="short"
        aria-label={label}
        value={numbers[name]}
        onChange={(e) => setNumbers({ ...numbers, [name]: e.currentTarget.value })}
        onKeyDown={(e) => e.stopPropagation()}
      />
    </label>
  )
  const check = (label: string, on: boolean, flip: () => void) => (
    <label className="check" key={label}>
      <input type="checkbox" checked={on} onChange={flip} />
      {label}
    </label>
  )
  return (
    <Frame>
      <Form>
        <div className="row">
          <Pick
            label="Feeder from"
            value={feeder}
            placeholder="select its head"
            choices={heads.map((h) => ({ id: h.id, label: h.name }))}
            onChange={setHead}
          />
        </div>
        {within.length > 0 && (
          <span className="quiet">only what stands at the {within.length} selected buses moves</span>
        )}
        <div className="row">
          <Pick label="Objective" value={objective} choices={OBJECTIVES} onChange={setObjective} />
        </div>
        <div className="acts">
          {study.running ? (
            <Button onPress={study.cancel}>Stop with the best so far</Button>
          ) : (
            <Primary onPress={start} isDisabled={!feeder || !under.length}>
              Balance
            </Primary>
          )}
        </div>
        {study.running && (
          <>
            <progress max={1} value={study.running.fraction} aria-label="Progress" />
            <span className="quiet">{study.running.doing}</span>
          </>
        )}
        {study.problem && (
          <p className="problem" role="alert">
            {study.problem}
          </p>
        )}
        {objective === 'mix' &&
          WEIGHTS.map(([w, label]) =>
            entry(`weight_${w}`, `weight of ${label}`, OBJECTIVES.find((o) => o.id === w)?.label),
          )}
        <h3>Conditions together</h3>
        {conditions.map((c) =>
          check(c.name, under.includes(c.id), () =>
            setWanted(under.includes(c.id) ? under.filter((u) => u !== c.id) : [...under, c.id]),
          ),
        )}
        <h3>What may move</h3>
        {MOVES.map(([m, label]) =>
          check(label, flags[m] === true, () => setFlags({ ...flags, [m]: !flags[m] })),
        )}
        {entry('exclude_tag', 'not what is tagged')}
        <h3>How</h3>
        <div className="row">
          <Pick label="Method" value={method} choices={METHODS} onChange={setMethod} />
        </div>
        {entry('most_changes', 'most changes', 'Any number when blank')}
        {entry(
          'change_cost_pct',
          'each worth at least %',
          'What each change must gain, in per cent of the objective before',
        )}
        {entry('time_limit_s', 'time limit s')}
        {entry('seed', 'seed', 'The same seed finds the same answer')}
      </Form>
      {study.result ? (
        <Found
          result={study.result}
          stale={study.revision !== revision}
          feeder={items.get(feeder ?? '')?.name ?? ''}
        />
      ) : (
        <None>
          Moves loads, plants and whole laterals to other phases until the feeder carries alike in all of
          them. Select its transformer or first line; the answer is a scheme with one change for each move.
          {settings?.study !== 'per_phase' && (
            <Button
              onPress={() =>
                settings && void updateOrTell(settings, { study: 'per_phase' }, 'Solve per phase')
              }
            >
              Solve per phase to see the present state
            </Button>
          )}
        </None>
      )}
    </Frame>
  )
}

function Found({ result, stale, feeder }: { result: StudyResult; stale: boolean; feeder: string }) {
  const [made, setMade] = useState<string | null>(null)
  const moves = useMemo(() => result.tables.moves && tableOf(result.tables.moves), [result])
  const make = async () => {
    // The state before stays behind every view as the pinned result.
    if (!useBench.getState().pinned) pin()
    const id = await createScheme(`Balance ${feeder}`, {
      changes: result.scheme,
      active: true,
      note: result.statement,
    })
    if (!id) return
    setMade(id)
    useBench.setState({ scheme: id })
    openView('schemes')
  }
  const bound = result.summary.bound
  return (
    <Answer>
      <Said>
        <span data-testid="statement">{result.statement}</span>
        <span className="quiet">
          {result.account.method} · {fixed(result.summary.took_s, 1)} s · score{' '}
          {fixed(result.summary.score, 2)} of 100
          {typeof bound === 'number' ? ` · bound ${fixed(bound, 2)}` : ''} · {result.account.notes.join(' ')}
        </span>
        <span className="acts">
          <Primary onPress={() => void make()} isDisabled={!result.scheme?.length || made !== null}>
            Make it a scheme
          </Primary>
          {stale && made === null && <span className="stale">the network has changed since</span>}
        </span>
      </Said>
      <Scroll tabIndex={0} role="region" aria-label="Moves">
        {result.tables.objectives && <Objectives table={result.tables.objectives} />}
        {moves && (
          <Moves>
            <PlainGrid table={moves} />
          </Moves>
        )}
      </Scroll>
    </Answer>
  )
}

/** Every objective before and after, one pair of columns for each condition. */
function Objectives({ table }: { table: StudyResult['tables'][string] }) {
  const of = (name: string) => (table.columns.find((c) => c.name === name)?.values ?? []) as unknown[]
  const [conditions, names, units, before, after, counts] = [
    'condition',
    'name',
    'unit',
    'before',
    'after',
    'counts',
  ].map(of)
  const under = [...new Set(conditions as string[])]
  const rows = [...new Set(names as string[])]
  const at = (name: string, condition: string) =>
    names!.findIndex((n, i) => n === name && conditions![i] === condition)
  return (
    <table aria-label="Objectives">
      <thead>
        <tr>
          <th>Before → after</th>
          {under.map((c) => (
            <th key={c}>{c}</th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((name) => {
          const first = at(name, under[0]!)
          return (
            <tr key={name} style={counts![first] ? undefined : { opacity: 0.65 }}>
              <td>
                {name}, {String(units![first])}
                {counts![first] ? '' : ' (does not count)'}
              </td>
              {under.map((c) => {
                const i = at(name, c)
                return (
                  <td key={c}>
                    {fixed(before![i] as number, 2)} → {fixed(after![i] as number, 2)}
                  </td>
                )
              })}
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}
