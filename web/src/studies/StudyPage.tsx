/** The page of any study: its options as a form, its answer as tables, a column as a lens. */
import { useState } from 'react'
import styled from 'styled-components'
import type { components } from '../api/schema'
import { Button, Pick, Primary } from '../design/controls'
import { font } from '../design/tokens'
import { usePrefs } from '../model/prefs'
import { shown, shownUnit } from '../model/units'
import { useKept } from '../session/kept'
import { select, useBench } from '../session/store'
import { type StudyResult, type StudyTable, useStudy } from './useStudy'

type StudyInfo = components['schemas']['StudyOut']

const Frame = styled.div`display: grid; grid-template-columns: 290px minmax(0, 1fr); height: 100%; min-height: 0;`
const Form = styled.div`
  overflow-y: auto; padding: 8px 14px; border-right: 1px solid ${(p) => p.theme.rule}; display: grid; gap: 6px; align-content: start;
  .quiet, .help { color: ${(p) => p.theme.quiet}; font-size: 12px; }
  .row { display: flex; justify-content: space-between; gap: 8px; align-items: center; min-height: 28px; }
  input:not([type]) { width: 110px; height: 26px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.panel}; padding: 0 6px; text-align: right; font: 400 12px ${font.mono}; }
  progress { width: 100%; accent-color: ${(p) => p.theme.accent}; } .acts { display: flex; gap: 6px; } .problem { color: ${(p) => p.theme.breach}; }
`
const Answer = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0;`
const Bar = styled.div`
  display: flex; flex-wrap: wrap; gap: 3px 10px; padding: 4px 14px; border-bottom: 1px solid ${(p) => p.theme.rule}; align-items: center;
  button[aria-pressed] { border: none; background: transparent; padding: 2px 8px; min-height: 24px; border-radius: 4px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  p { flex-basis: 100%; } .stale { color: ${(p) => p.theme.breach}; }
`
const Scroll = styled.div`
  overflow: auto; min-height: 0; &:focus-visible { outline-offset: -3px; }
  table { border-collapse: collapse; font: 400 12.5px ${font.mono}; }
  th { position: sticky; top: 0; background: ${(p) => p.theme.paper}; font: 400 12px/1.25 ${font.sans}; color: ${(p) => p.theme.quiet}; z-index: 1; }
  th, td { padding: 2px 10px; text-align: right; border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap; }
  th:first-child, td:first-child { text-align: left; padding-left: 14px; }
  th button { border: none; background: none; font: inherit; color: inherit; text-align: inherit; min-height: 24px; cursor: pointer; padding: 0; }
  td button { border: none; background: none; padding: 0; color: ${(p) => p.theme.accent}; font: 400 12.5px ${font.sans}; cursor: pointer; min-height: 24px; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet}; max-width: 620px;`

const LensSign = () => (
  <svg width={9} height={9} viewBox="0 0 9 9" aria-hidden="true">
    <rect x={0.5} y={0.5} width={8} height={8} fill="none" stroke="currentColor" />
    <rect x={0.5} y={0.5} width={4} height={8} fill="currentColor" />
  </svg>
)

interface Option {
  readonly title?: string
  readonly description?: string
  readonly default?: unknown
  readonly enum?: readonly string[]
  readonly type?: string
  readonly anyOf?: readonly { readonly type?: string }[]
}

export function StudyPage({ study }: { study: StudyInfo }) {
  const { revision, selected, items } = useBench()
  const options = Object.entries((study.options.properties ?? {}) as Record<string, Option>)
  const [entered, setEntered] = useKept<Record<string, unknown>>(`options of ${study.name}`, {})
  const work = useStudy(study.name)
  const item = items.get(selected ?? '')
  /** What is selected answers for a bus or branch that nobody has named. */
  const usual = (name: string, o: Option): unknown =>
    name === 'bus' && item?.kind === 'bus'
      ? item.id
      : name === 'branch' && item && item.kind !== 'bus' && 'from_bus' in item
        ? item.id
        : o.default
  const value = (name: string, o: Option) => (name in entered ? entered[name] : usual(name, o))
  const start = () => {
    const given = options
      .map(([n, o]) => [n, value(n, o)] as const)
      .filter(([, v]) => v !== '' && v !== undefined && v !== null)
    void work.run(Object.fromEntries(given))
  }
  return (
    <Frame>
      <Form>
        <span className="quiet">{study.purpose}.</span>
        {options.map(([name, o]) => (
          <Entry
            key={name}
            name={name}
            option={o}
            value={value(name, o)}
            onChange={(v) => setEntered({ ...entered, [name]: v })}
          />
        ))}
        <div className="acts">
          {work.running ? (
            <Button onPress={work.cancel}>Cancel</Button>
          ) : (
            <Primary onPress={start}>Run</Primary>
          )}
        </div>
        {work.running && <progress max={1} value={work.running.fraction} aria-label="Progress" />}
        {work.problem && (
          <p className="problem" role="alert">
            {work.problem}
          </p>
        )}
      </Form>
      {work.result ? (
        <Shown result={work.result} stale={work.revision !== revision} label={study.label} />
      ) : (
        <None>Run it to see its tables here. A column with figures can be shown on the sheet as a lens.</None>
      )}
    </Frame>
  )
}

function Entry(props: { name: string; option: Option; value: unknown; onChange: (v: unknown) => void }) {
  const { name, option, value, onChange } = props
  const items = useBench((s) => s.items)
  const label = (option.title ?? name).replaceAll('_', ' ')
  const kind = option.type ?? option.anyOf?.find((a) => a.type !== 'null')?.type
  if (option.enum)
    return (
      <div className="row" title={option.description}>
        <Pick
          label={label}
          value={String(value)}
          choices={option.enum.map((e) => ({ id: e, label: e.replaceAll('_', ' ') }))}
          onChange={onChange}
        />
      </div>
    )
  if (kind === 'boolean')
    return (
      <label className="row" title={option.description}>
        {label}
        <input type="checkbox" checked={value === true} onChange={(e) => onChange(e.currentTarget.checked)} />
      </label>
    )
  const known = items.get(String(value))
  return (
    <label className="row" title={option.description}>
      {label}
      <input
        value={known ? known.name : String(value ?? '')}
        placeholder={name === 'bus' || name === 'branch' ? `select a ${name}` : ''}
        onChange={(e) => {
          const typed = e.currentTarget.value
          const found = [...items.values()].find((i) => i.name === typed)
          onChange(
            kind === 'number' || kind === 'integer'
              ? typed === ''
                ? ''
                : Number(typed)
              : (found?.id ?? typed),
          )
        }}
        onKeyDown={(e) => e.stopPropagation()}
      />
    </label>
  )
}

function Shown({ result, stale, label }: { result: StudyResult; stale: boolean; label: string }) {
  const tables = Object.values(result.tables)
  const [name, setName] = useState<string | null>(null)
  const table = tables.find((t) => t.name === name) ?? tables.find((t) => t.columns.length > 2) ?? tables[0]
  const said = result.statement || result.account.explanation || result.account.notes.join(' ')
  return (
    <Answer>
      <Bar>
        {tables.map((t) => (
          <button type="button" key={t.name} aria-pressed={t === table} onClick={() => setName(t.name)}>
            {t.label}
          </button>
        ))}
        {stale && <span className="stale">out of date</span>}
        {said && <p data-testid="statement">{said}</p>}
      </Bar>
      <Scroll tabIndex={0} role="region" aria-label={label}>
        {table && <Figures table={table} />}
      </Scroll>
    </Answer>
  )
}

export function Figures({ table }: { table: StudyTable }) {
  const units = usePrefs((s) => s.units)
  const items = useBench((s) => s.items)
  const columns = table.columns.filter((c) => c.name !== 'id')
  const ids = (table.columns[0]?.values ?? []) as string[]
  const asLens = (c: (typeof columns)[number]) => {
    const values = new Map<string, number>()
    let most = 1e-9
    ids.forEach((id, i) => {
      const v = c.values?.[i]
      if (typeof v !== 'number') return
      values.set(id, v)
      most = Math.max(most, Math.abs(v))
    })
    useBench.setState({ study: { label: c.label, unit: c.unit ?? '', values, most }, lens: 'study' })
  }
  const figure = (c: (typeof columns)[number]) => c.digits !== null && c.digits !== undefined
  return (
    <table aria-label={table.label}>
      <thead>
        <tr>
          {columns.map((c) => (
            <th key={c.name} title={c.meaning || undefined}>
              {figure(c) ? (
                <button
                  type="button"
                  title={`${c.meaning ? `${c.meaning}. ` : ''}Show it on the sheet`}
                  onClick={() => asLens(c)}
                >
                  {c.label} <LensSign />
                </button>
              ) : (
                c.label
              )}
              <br />
              {shownUnit(c.unit, units) || '\u00a0'}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {ids.slice(0, 500).map((id, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: an element may have several rows
          <tr key={`${id} ${i}`}>
            {columns.map((c) => (
              <td key={c.name}>
                {c.name === 'name' ? (
                  <button type="button" onClick={() => items.has(id) && select(id, { reveal: true })}>
                    {String(c.values?.[i] ?? id)}
                  </button>
                ) : figure(c) ? (
                  shown(c.values?.[i] as number | null, c.unit, c.digits, units)
                ) : (
                  String(c.values?.[i] ?? '–').replaceAll('_', ' ')
                )}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
