/** The page of any study, from what it declares: options, progress, and the answer as tables, plots, findings and workings. */
import { useQuery } from '@tanstack/react-query'
import { type ComponentType, useEffect, useMemo, useRef, useState } from 'react'
import styled from 'styled-components'
import { messageOf } from '../api/client'
import { causeQuery, workingsQuery } from '../api/queries'
import type { components } from '../api/schema'
import { applies, OptionField } from '../card/Field'
import { OneWorking } from '../card/Workings'
import { Button, Pick, Plain, Primary } from '../design/controls'
import { Mark } from '../design/Icon'
import { fits, type Item } from '../model/items'
import { inCondition } from '../model/operated'
import { usePrefs } from '../model/prefs'
import { tableOf } from '../model/results'
import { withUnit } from '../model/units'
import { changeOrTell } from '../session/edits'
import { useKept } from '../session/kept'
import { keepRun, pin, printed } from '../session/runs'
import { createScheme } from '../session/schemes'
import { hover, lensOf, notify, select, useBench, useCondition } from '../session/store'
import { openView } from '../shelf/desks'
import { FigurePlot } from '../shelf/FigurePlot'
import { saveFile } from '../shelf/save'
import { ResultGrid } from '../shelf/tables/ResultGrid'
import { type Study, type StudyResult, useStudy } from './useStudy'

type StudyInfo = components['schemas']['StudyOut']
type BesideAnswer = ComponentType<{ result: StudyResult }>

const Frame = styled.div`
  display: grid; grid-template-columns: clamp(236px, 38%, 290px) minmax(0, 1fr); grid-template-rows: minmax(0, 1fr); height: 100%; min-height: 0; overflow: hidden;
  @container (max-width: 620px) { grid-template-columns: minmax(0, 1fr); grid-template-rows: auto minmax(0, 1fr); > form { max-height: 40cqh; } }
`
const Form = styled.form`
  overflow-y: auto; padding: 8px 14px; border-right: 1px solid ${(p) => p.theme.rule}; display: grid; gap: 2px; align-content: start;
  .quiet { color: ${(p) => p.theme.quiet}; font-size: 12px; padding-bottom: 4px; } h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin-top: 8px; }
  progress { width: 100%; accent-color: ${(p) => p.theme.accent}; } .acts { display: flex; gap: 8px; align-items: center; padding-top: 8px; } .problem { color: ${(p) => p.theme.breach}; }
  .acts label { display: flex; gap: 5px; align-items: center; color: ${(p) => p.theme.quiet}; }
`
const Answer = styled.div`display: grid; grid-template-columns: minmax(0, 1fr); grid-template-rows: auto minmax(0, 1fr); min-width: 0; min-height: 0; height: 100%;`
const Bar = styled.div`
  display: flex; flex-wrap: wrap; gap: 2px 4px; padding: 3px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; align-items: center; max-height: 40cqh; overflow-y: auto;
  button[aria-pressed] { border: none; background: transparent; padding: 2px 8px; min-height: 24px; border-radius: 4px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  > button:not([aria-pressed]) { padding: 0 7px; height: 26px; }
  p { flex-basis: 100%; display: -webkit-box; -webkit-box-orient: vertical; -webkit-line-clamp: 4; overflow: hidden; }
  @container (max-height: 330px) { p { -webkit-line-clamp: 2; } }
  .stale { color: ${(p) => p.theme.breach}; } .space { flex: 1; }
`
const Scroll = styled.div`overflow: auto; min-height: 0; padding: 6px 14px; &:focus-visible { outline-offset: -3px; }`
const Plot = styled.div`min-height: 0; padding: 6px 10px;`
const List = styled.ul`
  list-style: none; margin: 0; padding: 0;
  li { display: grid; grid-template-columns: 30px minmax(110px, 190px) minmax(0, 1fr) auto; align-items: center; min-height: 30px; gap: 0 8px; }
  li[data-severity='breach'] > span { color: ${(p) => p.theme.breach}; } li[data-severity='watch'] > span { color: ${(p) => p.theme.watchInk}; }
  button { border: none; background: none; padding: 0; text-align: left; font-weight: 500; min-height: 24px; cursor: pointer; } em { font-style: normal; color: ${(p) => p.theme.quiet}; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet}; max-width: 620px;`

/** What a study offers as values of a condition; null where a condition can't hold all of it. */
function offer(result: StudyResult, condition: Item) {
  if (!result.scheme?.length) return null
  const items = useBench.getState().items
  const { values, states } = condition as { values?: object; states?: object }
  const found = inCondition(
    result.scheme as Parameters<typeof inCondition>[0],
    (id) => items.get(id)?.kind,
    (values ?? {}) as Parameters<typeof inCondition>[2],
    (states ?? {}) as Parameters<typeof inCondition>[3],
  )
  return found.left ? null : found
}

/** Tables beyond this many are chosen from a list, so that the answer keeps its height. */
const MOST_TABS = 3

/** A study that took no longer than this follows the edits by itself. */
const QUICK_S = 0.5
const NEARLY_S = 2

/** Options as they stand: typed, else what is selected for a reference that it fits, else the usual. */
function useOptions(
  study: StudyInfo,
  suggested: Readonly<Record<string, unknown>>,
): [Item, (name: string, value: unknown) => void] {
  const [entered, setEntered] = useKept<Record<string, unknown>>(`options of ${study.name}`, {})
  const selected = useBench((s) => (s.selected ? s.items.get(s.selected) : undefined))
  const options = useMemo(() => {
    // What is selected fills the first reference, where it fits.
    const first = study.fields.find((f) => f.ref)
    const fitting = first && selected && fits(selected, first.ref) ? selected.id : undefined
    const usual = study.fields.map((f) => {
      const chosen = suggested[f.name] ?? (f === first && f.type === 'reference' ? fitting : undefined)
      return [f.name, f.name in entered ? entered[f.name] : (chosen ?? f.default)] as const
    })
    return { kind: 'options', id: study.name, name: study.label, ...Object.fromEntries(usual) } as Item
  }, [study, entered, selected, suggested])
  return [options, (name, value) => setEntered({ ...entered, [name]: value })]
}

const given = (study: StudyInfo, options: Item) =>
  Object.fromEntries(
    study.fields.flatMap((f) => {
      const value = options[f.name]
      return value === '' || value === undefined || value === null ? [] : [[f.name, value] as const]
    }),
  )

/** Run again after an edit, while runs are quick and somebody wants it. */
function useFollowing(wanted: boolean, work: Study, start: () => void) {
  const revision = useBench((s) => s.revision)
  const busy = useBench((s) => s.busy)
  const stale = !!work.result && work.revision !== revision
  // A first run also made a worker ready: one that was nearly quick gets a second chance.
  const tried = useRef(false)
  // biome-ignore lint/correctness/useExhaustiveDependencies: an edit asks anew, and nothing else does
  useEffect(() => {
    if (!wanted || !stale || busy || work.running) return
    const nearly = !tried.current && work.took_s < NEARLY_S
    if (work.took_s < QUICK_S || nearly) {
      tried.current = true
      start()
    }
  }, [wanted, stale, busy, revision])
}

const NOTHING: Readonly<Record<string, unknown>> = {}
const nothing = () => NOTHING

/** A way of looking at an answer that only one study has. */
export interface Pane {
  readonly id: string
  readonly label: string
  readonly Body: BesideAnswer
}
const NO_PANES: readonly Pane[] = []

interface PageProps {
  readonly study: StudyInfo
  /** What a study of its own view offers with its answer, and before there is one. */
  readonly Beside?: BesideAnswer
  readonly Before?: ComponentType
  /** What it offers is no scheme by itself. */
  readonly noScheme?: boolean
  readonly panes?: readonly Pane[]
  /** Values of options that fit what is selected, by name. */
  readonly useSuggested?: () => Readonly<Record<string, unknown>>
}

export function StudyPage(props: PageProps) {
  const { study, Beside, Before, useSuggested = nothing, panes = NO_PANES } = props
  const revision = useBench((s) => s.revision)
  const found = useSuggested()
  const words = JSON.stringify(found)
  // Told anew with every look at the bench: the same values are the same.
  const suggested = useMemo(() => JSON.parse(words) as typeof found, [words])
  const [options, setOption] = useOptions(study, suggested)
  const [follow, setFollow] = useKept(`follow ${study.name}`, true)
  const work = useStudy(study.name)
  const start = () => void work.run(given(study, options))
  useFollowing(study.follows && follow, work, start)
  const shown = study.fields.filter((f) => applies(options, f))
  const asked = options[study.fields.find((f) => f.type === 'reference' && options[f.name])?.name ?? '']
  const about = useBench((s) => s.items.get(String(asked))?.name ?? '')
  const groups = [...new Set(['data', ...shown.map((f) => f.group ?? 'data')])]
  return (
    <Frame>
      <Form
        aria-label={`Options: ${study.label}`}
        onSubmit={(e) => {
          e.preventDefault()
          start()
        }}
      >
        <span className="quiet">{study.purpose}.</span>
        {groups.map((g) => (
          <div key={g}>
            {g !== 'data' && <h3>{g[0]?.toUpperCase() + g.slice(1)}</h3>}
            {shown
              .filter((f) => (f.group ?? 'data') === g)
              .map((f) => (
                <OptionField key={f.name} spec={f} options={options} keep={(v) => setOption(f.name, v)} />
              ))}
          </div>
        ))}
        <div className="acts">
          {work.running ? (
            <Button onPress={work.cancel}>Cancel</Button>
          ) : (
            <Primary onPress={start}>{work.result ? 'Run again' : 'Run'}</Primary>
          )}
          {study.follows && (
            <label title="Runs again by itself after every edit while a run takes less than half a second">
              <input type="checkbox" checked={follow} onChange={(e) => setFollow(e.currentTarget.checked)} />
              keep up
            </label>
          )}
        </div>
        {work.running && (
          <>
            <progress max={1} value={work.running.fraction} aria-label="Progress" />
            <span className="quiet">
              {work.running.doing}
              {work.running.left_s !== null && `, ${Math.ceil(work.running.left_s)} s left`}
            </span>
          </>
        )}
        {work.problem && (
          <p className="problem" role="alert">
            {work.problem}
          </p>
        )}
      </Form>
      {work.result && work.address ? (
        <Shown
          result={work.result}
          address={work.address}
          stale={work.revision !== revision}
          took={work.took_s}
          revision={work.revision}
          about={about}
          partial={work.partial}
          study={study}
          again={start}
          Beside={Beside}
          noScheme={props.noScheme}
          panes={panes}
        />
      ) : (
        <None>
          {study.purpose}. Run it to see its answer here: tables to sift and export, plots, and any of its
          figures as colours on the sheet.
          {Before && <Before />}
        </None>
      )}
    </Frame>
  )
}

function Shown(props: {
  result: StudyResult
  address: string
  stale: boolean
  took: number
  revision: number
  /** Name of what it was asked about. */
  about: string
  partial: boolean
  study: StudyInfo
  again: () => void
  Beside?: BesideAnswer
  noScheme: boolean | undefined
  panes: readonly Pane[]
}) {
  const { result, address, stale, study } = props
  const tables = useMemo(() => Object.values(result.tables).map(tableOf), [result])
  const figures = result.figures ?? []
  const [pane, setPane] = useKept<string>(`pane of ${study.name}`, '')
  const widest = [...tables].sort((a, b) => b.columns.length - a.columns.length)[0]
  const first = figures[0] ? `figure ${figures[0].name}` : `table ${widest?.name}`
  const known = [
    ...figures.map((f) => `figure ${f.name}`),
    ...tables.map((t) => `table ${t.name}`),
    ...props.panes.map((p) => p.id),
    'findings',
    'workings',
    'account',
  ]
  const at = known.includes(pane) ? pane : first
  const table = tables.find((t) => `table ${t.name}` === at)
  const figure = figures.find((f) => `figure ${f.name}` === at)
  const said = result.statement || result.account.explanation || result.account.notes.join(' ')
  const quantities = table ? (result.quantities ?? []).filter((q) => q.table === table.name) : []
  const beside = tables.length > MOST_TABS ? MOST_TABS - 1 : tables.length
  const tab = (id: string, label: string) => (
    <button type="button" key={id} aria-pressed={id === at} onClick={() => setPane(id)}>
      {label}
    </button>
  )
  const condition = useCondition()
  const keep = async () => {
    const run = await keepRun(study.label, result.statement ?? '', address)
    if (run) notify('news', `${study.label} is kept among the runs.`)
  }
  const print = () => void printed(study.label, [{ address }], saveFile)
  const fitting = condition ? offer(result, condition) : null
  const put = async () => {
    if (!fitting || !condition) return
    const words = `${study.label}: set-points in ${condition.name}`
    const values = { values: fitting.values, states: fitting.states }
    if (await changeOrTell(words, [{ op: 'update', id: condition.id, values, origins: {} }]))
      notify('news', `Set in ${condition.name}; undo takes it back.`)
  }
  const make = async () => {
    // The state before stays behind every view as the pinned result.
    if (!useBench.getState().pinned) pin()
    const id = await createScheme(props.about ? `${study.label}, ${props.about}` : study.label, {
      changes: result.scheme,
      active: true,
      note: result.statement,
    })
    if (!id) return
    useBench.setState({ scheme: id })
    openView('schemes')
  }
  return (
    <Answer>
      <Bar role="toolbar" aria-label={study.label}>
        {figures.map((f) => tab(`figure ${f.name}`, f.label))}
        {props.panes.map((p) => tab(p.id, p.label))}
        {tables.slice(0, beside).map((t) => tab(`table ${t.name}`, t.label))}
        {tables.length > beside && (
          <Pick
            label="More tables"
            hideLabel
            placeholder="more tables"
            value={tables.slice(beside).some((t) => t.name === table?.name) ? (table?.name ?? null) : null}
            choices={tables.slice(beside).map((t) => ({ id: t.name, label: t.label }))}
            onChange={(name) => setPane(`table ${name}`)}
          />
        )}
        {result.findings.length > 0 && tab('findings', `Findings ${result.findings.length}`)}
        {study.explains && tab('workings', 'Workings')}
        {tab('account', 'Account')}
        <span className="space" />
        {props.partial && <span className="stale">so far</span>}
        {stale && (
          <span className="stale">
            out of date <Plain onPress={props.again}>Run again</Plain>
          </span>
        )}
        {table && quantities.length > 0 && (
          <Pick
            label="On the sheet"
            hideLabel
            placeholder="on the sheet"
            value={null}
            choices={quantities.map((q) => ({ id: q.name, label: q.label }))}
            onChange={(name) => {
              const column = table.columns.find((c) => c.name === name)
              if (column) lensOf(table.columns[0]!.values as string[], column, props.revision)
            }}
          />
        )}
        {props.Beside && <props.Beside result={result} />}
        {!props.noScheme && (result.scheme?.length ?? 0) > 0 && (
          <Plain onPress={() => void make()}>Make it a scheme</Plain>
        )}
        {fitting && condition && <Plain onPress={() => void put()}>Set it in {condition.name}</Plain>}
        <Plain onPress={() => void keep()}>Keep</Plain>
        <Plain aria-label={`PDF of ${study.label}`} onPress={print}>
          PDF
        </Plain>
        {said && (
          <p data-testid="statement" title={said}>
            {said}
          </p>
        )}
      </Bar>
      {table && (
        <ResultGrid
          key={`${address} ${table.name}`}
          table={table}
          address={address}
          findings={result.findings}
        />
      )}
      {figure && (
        <Plot>
          <FigurePlot figure={figure} />
        </Plot>
      )}
      {at === 'findings' && (
        <Findings result={result} address={study.causes && !props.partial ? address : null} />
      )}
      {at === 'workings' && <StudyWorkings address={address} />}
      {props.panes.map((p) => (p.id === at ? <p.Body key={p.id} result={result} /> : null))}
      {at === 'account' && <Account result={result} took={props.took} />}
    </Answer>
  )
}

/** `address`: of the result, where its study can say why and what helps. */
function Findings({ result, address }: { result: StudyResult; address: string | null }) {
  const items = useBench((s) => s.items)
  const [asked, setAsked] = useState<string | null>(null)
  return (
    <Scroll tabIndex={0} role="region" aria-label="Findings of the study">
      <List>
        {result.findings.map((f) => (
          <li
            key={`${f.element} ${f.quantity} ${f.text}`}
            data-severity={f.severity}
            onPointerEnter={() => hover(f.element)}
            onPointerLeave={() => hover(null)}
          >
            <span>
              <Mark severity={f.severity} direction={f.direction} />
            </span>
            <button type="button" onClick={() => select(f.element, { reveal: true })}>
              {items.get(f.element)?.name ?? f.element}
            </button>
            <em>{f.text}</em>
            {address && (
              <Plain
                onPress={() => setAsked(asked === f.text ? null : f.text)}
                aria-label={`${asked === f.text ? 'Close' : 'Why'}: ${items.get(f.element)?.name ?? f.element}`}
              >
                {asked === f.text ? 'Close' : 'Why'}
              </Plain>
            )}
            {address && asked === f.text && (
              <Cause address={address} element={f.element} quantity={f.quantity} />
            )}
          </li>
        ))}
      </List>
    </Scroll>
  )
}

const Told = styled.div`
  grid-column: 2 / -1; padding: 2px 0 8px; display: grid; gap: 5px;
  > div { display: grid; grid-template-columns: minmax(0, 1fr) auto; gap: 0 8px; align-items: center; }
  small { color: ${(p) => p.theme.quiet}; font-size: 12px; grid-column: 1; } div > button { grid-row: 1 / 3; grid-column: 2; }
`

/** Why a level is not kept, and what was tried and helps. */
function Cause({ address, element, quantity }: { address: string; element: string; quantity: string }) {
  const project = useBench((s) => s.project?.id)
  const { data, error } = useQuery({
    ...causeQuery(project ?? '', address, '', element, quantity),
    enabled: !!project,
  })
  if (error) return <Told role="alert">{messageOf(error)}</Told>
  if (!data) return <Told aria-busy="true">Trying what may help …</Told>
  return (
    <Told>
      <span>{data.text}</span>
      {data.proposals.map((p) => (
        <div key={p.label}>
          <span>{p.label}</span>
          <small>{p.effect}</small>
          <Button onPress={() => void changeOrTell(p.label, p.changes)}>Do it</Button>
        </div>
      ))}
      {data.proposals.length === 0 && <small>Nothing that was tried helps by itself.</small>}
    </Told>
  )
}

/** How it went, what was taken for granted, and totals that have a name. */
function Account({ result, took }: { result: StudyResult; took: number }) {
  const units = usePrefs((s) => s.units)
  const { account, summary, totals = [] } = result
  const known = totals.filter((t) => typeof summary[t.name] === 'number')
  return (
    <Scroll tabIndex={0} role="region" aria-label="Account of the study">
      <p>
        {account.method}
        {took > 0 ? `; ${took < 10 ? took.toFixed(1) : Math.round(took)} s` : ''}.
      </p>
      {account.explanation && <p>{account.explanation}</p>}
      <Plainly>
        {known.map((t) => (
          <li key={t.name}>
            {t.label} {withUnit(summary[t.name], t.unit, t.digits, units)}
          </li>
        ))}
        {[...(account.notes ?? []), ...(account.assumed ?? [])].map((text) => (
          <li key={text}>{text}</li>
        ))}
      </Plainly>
    </Scroll>
  )
}

const Plainly = styled.ul`margin: 6px 0 0; padding-left: 18px; max-width: 900px; li { padding: 2px 0; }`

function StudyWorkings({ address }: { address: string }) {
  const project = useBench((s) => s.project?.id)
  const item = useBench((s) => (s.selected ? s.items.get(s.selected) : undefined))
  const { data } = useQuery({
    ...workingsQuery(project ?? '', address, '', item?.id ?? ''),
    enabled: !!project && !!item,
  })
  if (!item) return <None>Select an element to see how its figures came about.</None>
  if (!data?.workings.length) return <None>Nothing is worked out for {item.name} here.</None>
  return (
    <Scroll tabIndex={0} role="region" aria-label={`Workings of ${item.name}`}>
      {data.workings.map((w) => (
        <OneWorking key={w.title} working={w} />
      ))}
    </Scroll>
  )
}
