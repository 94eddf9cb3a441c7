/** Two combinations of schemes and conditions side by side: totals, data, results, findings, and as a two-sided diagram. */
import { useMemo, useState } from 'react'
import { DialogTrigger } from 'react-aria-components'
import styled from 'styled-components'
import { messageOf } from '../../api/client'
import type { components } from '../../api/schema'
import { Pick, Plain, Popover } from '../../design/controls'
import { fixed } from '../../design/format'
import { Mark } from '../../design/Icon'
import { font } from '../../design/tokens'
import { tableOf } from '../../model/results'
import { printed } from '../../session/runs'
import { schemesOf } from '../../session/schemes'
import { useBench, useCondition } from '../../session/store'
import { saveFile } from '../../shelf/save'
import { Grid, useGrid } from '../../shelf/tables/Grid'
import { PlainGrid } from '../../shelf/tables/ResultGrid'
import { TwoSides } from './TwoSides'
import { type Cases, useCases } from './useCases'

type Table = components['schemas']['TableOut']
type Finding = components['schemas']['FindingOut']

const Frame = styled.div`display: grid; grid-template-rows: auto auto minmax(0, 1fr); min-height: 0; height: 100%;`
const Bar = styled.div`
  display: flex; flex-wrap: wrap; gap: 2px 10px; align-items: center; padding: 3px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 34px;
  label { display: inline-flex; gap: 4px; align-items: center; white-space: nowrap; min-height: 24px; } .quiet { color: ${(p) => p.theme.quiet}; }
  button[aria-pressed] { padding: 0 7px; height: 26px; color: ${(p) => p.theme.quiet}; } button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
`
const Scroll = styled.div`
  overflow: auto; min-height: 0; &:focus-visible { outline-offset: -3px; }
  table { border-collapse: collapse; font: 400 12.5px ${font.mono}; min-width: 60%; }
  th { position: sticky; top: 0; background: ${(p) => p.theme.paper}; font: 400 12px ${font.sans}; color: ${(p) => p.theme.quiet}; z-index: 1; }
  th, td { padding: 2px 12px; text-align: right; border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap; }
  th:first-child, td:first-child { text-align: left; font-family: ${font.sans}; } td.word { text-align: left; font-family: ${font.sans}; }
  td button, th button { border: none; background: none; padding: 0; color: ${(p) => p.theme.accent}; font: 400 12.5px ${font.sans}; cursor: pointer; min-height: 24px; }
`
const Choices = styled.div`display: grid; gap: 2px; padding: 10px 14px; max-height: 320px; overflow-y: auto; label { display: flex; gap: 7px; align-items: center; min-height: 24px; }`
const None = styled.p`padding: 14px 16px; color: ${(p) => p.theme.quiet}; max-width: 560px;`
const Finds = styled.ul`list-style: none; margin: 0; padding: 4px 12px; li { display: flex; gap: 8px; align-items: baseline; padding: 2px 0; } h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; }`

const VIEWS = [
  ['totals', 'Totals'],
  ['diagram', 'Diagram'],
  ['data', 'Data'],
  ['findings', 'Findings'],
] as const

const column = (t: Table | undefined, name: string) =>
  (t?.columns.find((c) => c.name === name)?.values ?? []) as unknown[]

export function CompareView() {
  const schemes = schemesOf(useBench((s) => s.items))
  const items = useBench((s) => s.items)
  const now = useCondition()
  const active = schemes.filter((s) => s.active === true).map((s) => s.id)
  const [sides, setSides] = useState<{ before: readonly string[]; after: readonly string[] | null }>({
    before: [],
    after: null,
  })
  const after = sides.after ?? (active.length ? active : schemes.slice(0, 1).map((s) => s.id))
  const [conditions, setConditions] = useState<{ before: string | null; after: string | null }>({
    before: null,
    after: null,
  })
  const [view, setView] = useState<string>('totals')
  const body = {
    before: { schemes: [...sides.before], condition: conditions.before ?? now?.id ?? null },
    after: { schemes: [...after], condition: conditions.after ?? now?.id ?? null },
    pictures: view === 'diagram',
  }
  const { data, error, isFetching } = useCases(body)
  const choices = [...items.values()]
    .filter((i) => i.kind === 'condition')
    .map((i) => ({ id: i.id, label: i.name }))
  const flip = (side: 'before' | 'after', id: string) => {
    const list = side === 'before' ? sides.before : after
    const next = list.includes(id) ? list.filter((s) => s !== id) : [...list, id]
    setSides(side === 'before' ? { ...sides, before: next } : { ...sides, after: next })
  }
  const said = (chosen: readonly string[]) => {
    const names = schemes.filter((s) => chosen.includes(s.id)).map((s) => s.name)
    return names.length > 2 ? `${names.length} schemes` : names.join(' + ') || 'present network'
  }
  const side = (which: 'before' | 'after') => (
    <>
      <Pick
        label={which === 'before' ? 'Before' : 'After'}
        value={body[which].condition}
        choices={choices}
        onChange={(id) => setConditions({ ...conditions, [which]: id })}
      />
      <DialogTrigger>
        <Plain aria-label={`${said(body[which].schemes)}, schemes ${which}`}>
          {said(body[which].schemes)}
        </Plain>
        <Popover placement="bottom start">
          <Choices role="group" aria-label={`Schemes ${which}`}>
            {schemes.map((s) => (
              <label key={s.id}>
                <input
                  type="checkbox"
                  aria-label={`${s.name} ${which}`}
                  checked={body[which].schemes.includes(s.id)}
                  onChange={() => flip(which, s.id)}
                />
                {s.name}
              </label>
            ))}
            {schemes.length === 0 && 'There is no scheme yet.'}
          </Choices>
        </Popover>
      </DialogTrigger>
    </>
  )
  const quantities = Object.entries(data?.results ?? {}).map(([id, t]) => ({ id, label: t.label }))
  return (
    <Frame>
      <Bar>
        {side('before')}
        <span className="quiet">|</span>
        {side('after')}
      </Bar>
      <Bar role="toolbar" aria-label="Comparison">
        {VIEWS.map(([id, label]) => (
          <Plain key={id} aria-pressed={view === id} onPress={() => setView(id)}>
            {label}
          </Plain>
        ))}
        <Pick
          label="Quantity"
          hideLabel
          placeholder="a quantity"
          value={quantities.some((q) => q.id === view) ? view : null}
          choices={quantities}
          onChange={setView}
        />
        <Plain
          aria-label="Document of the comparison"
          onPress={() => void printed('Comparison', [{ cases: { ...body, pictures: false } }], saveFile)}
        >
          Document
        </Plain>
        {data && (
          <span className="quiet" data-testid="findings-change">
            findings gained {data.findings_gained.length}, lost {data.findings_lost.length}
            {isFetching ? ' · solving …' : ''}
          </span>
        )}
      </Bar>
      <Scroll tabIndex={0} role="region" aria-label="Comparison of schemes">
        {error && <None role="alert">{messageOf(error)}</None>}
        {data && !error && <Shown data={data} view={view} />}
        {!data && !error && <None>Solving both sides …</None>}
      </Scroll>
    </Frame>
  )
}

function Shown({ data, view }: { data: Cases; view: string }) {
  const failed = [data.before, data.after].filter((s) => !s.converged)
  if (failed.length)
    return (
      <None role="alert">{failed.map((f) => `${f.title}: ${f.explanation || 'no answer'}`).join(' ')}</None>
    )
  if (view === 'totals') return <Totals table={data.summary} />
  if (view === 'diagram')
    return <TwoSides before={data.before} after={data.after} changed={column(data.data, 'id') as string[]} />
  if (view === 'data')
    return data.data.columns[0]?.values?.length ? (
      <PlainGrid table={tableOf(data.data)} />
    ) : (
      <None>Both sides have the same data.</None>
    )
  if (view === 'findings') return <FindingsChange gained={data.findings_gained} lost={data.findings_lost} />
  const table = data.results[view]
  return table ? <PlainGrid table={tableOf(table)} /> : <None>Not known on both sides.</None>
}

/** Totals of both sides: every row in its own unit, with its own digits. */
function Totals({ table }: { table: Table }) {
  const columns = useMemo(() => {
    const digits = column(table, 'digits') as number[]
    const figure = (name: string, label: string, width: number, sign = '') => {
      const values = column(table, name) as (number | null)[]
      const value = (row: number) => values[row]
      const said = (row: number) =>
        `${(values[row] ?? 0) > 0 ? sign : ''}${fixed(values[row], digits[row] ?? 2)}`
      return { name, label, unit: '', width, figure: true, value, said }
    }
    const word = (name: string, label: string, width: number) => {
      const value = (row: number) => String(column(table, name)[row] ?? '')
      return { name, label, unit: '', width, figure: false, value, said: value }
    }
    const title = (name: string) => table.columns.find((c) => c.name === name)?.label ?? name
    return [
      word('label', 'Quantity', 180),
      word('unit', 'Unit', 64),
      figure('before', title('before'), 220),
      figure('after', title('after'), 220),
      figure('change', 'Change', 120, '+'),
    ]
  }, [table])
  const ids = column(table, 'label') as string[]
  const rows = useMemo(() => ids.map((_, i) => i), [ids])
  const grid = useGrid({ columns, rows })
  return (
    <Grid
      grid={grid}
      label="Totals"
      ids={ids}
      cell={(c, row) => columns.find((x) => x.name === c.name)!.said(row)}
    />
  )
}

function FindingsChange({ gained, lost }: { gained: readonly Finding[]; lost: readonly Finding[] }) {
  const items = useBench((s) => s.items)
  const list = (title: string, found: readonly Finding[]) => (
    <Finds aria-label={title}>
      <h3>
        {title} {found.length}
      </h3>
      {found.slice(0, 300).map((f) => (
        <li key={`${f.element} ${f.quantity} ${f.severity} ${f.direction}`}>
          <Mark severity={f.severity} direction={f.direction} size={13} />
          <b>{items.get(f.element)?.name ?? f.element}</b> {f.text}
        </li>
      ))}
    </Finds>
  )
  return (
    <>
      {list('Lost', lost)}
      {list('Gained', gained)}
    </>
  )
}
