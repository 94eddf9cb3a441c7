/** Whether every outage of the model is survived, beside the solution; behind it the worst ones. */
import { Button, Dialog, DialogTrigger } from 'react-aria-components'
import styled from 'styled-components'
import { Plain, Popover } from '../design/controls'
import { fixed } from '../design/format'
import { font } from '../design/tokens'
import { BACKGROUND } from '../session/jobs'
import { checkNow, useSecurity } from '../session/security'
import { select } from '../session/store'
import { type StudyResult, showAlso } from '../session/studies'
import { openView } from '../shelf/desks'

const Pill = styled(Button)<{ $tone: 'good' | 'bad' | 'quiet' }>`
  display: flex; align-items: center; gap: 8px; height: 28px; line-height: 1; padding: 0 12px; border-radius: 14px; cursor: default; white-space: nowrap;
  border: 1px solid ${(p) => (p.$tone === 'bad' ? p.theme.breach : p.theme.rule)}; background: ${(p) => p.theme.paper};
  b { font-weight: 600; color: ${(p) => (p.$tone === 'good' ? p.theme.good : p.$tone === 'bad' ? p.theme.breach : p.theme.quiet)}; }
  span { font: 400 12px ${font.mono}; color: ${(p) => p.theme.quiet}; } i { font-style: normal; }
  @media (max-width: 1500px) { padding: 0 8px; gap: 6px; i { display: none; } }
  @media (max-width: 1240px) { span { display: none; } }
  &[data-hovered] { border-color: ${(p) => p.theme.quiet}; }
`
const Body = styled(Dialog)`
  padding: 14px 16px; width: 430px; outline: none; h2 { font-size: 14px; font-weight: 600; } p { margin-top: 6px; }
  ul { list-style: none; margin: 10px 0 4px; padding: 0; }
  li { display: grid; grid-template-columns: minmax(0, 1fr) auto; gap: 10px; align-items: center; min-height: 28px; border-top: 1px solid ${(p) => p.theme.rule}; }
  li button { border: none; background: none; padding: 0; text-align: left; font-weight: 500; min-height: 24px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; cursor: pointer; }
  li span { font: 400 12px ${font.mono}; color: ${(p) => p.theme.quiet}; white-space: nowrap; }
  .acts { display: flex; gap: 8px; margin-top: 8px; } .quiet { color: ${(p) => p.theme.quiet}; font-size: 12px; }
`
const SHOWN = 8

interface Row {
  readonly id: string
  readonly name: string
  readonly verdict: string
  readonly worst: number | null
  readonly lost: number | null
}

function rowsOf(result: StudyResult): Row[] {
  const table = result.tables.outages
  if (!table) return []
  const of = (name: string) => table.columns.find((c) => c.name === name)?.values ?? []
  const [ids, names, verdicts, worst, lost] = ['id', 'name', 'verdict', 'worst_pct', 'lost_mw'].map(of)
  return (ids ?? []).map((id, k) => ({
    id: String(id),
    name: String(names?.[k] ?? ''),
    verdict: String(verdicts?.[k] ?? ''),
    worst: (worst?.[k] ?? null) as number | null,
    lost: (lost?.[k] ?? null) as number | null,
  }))
}

const figure = (r: Row) =>
  r.verdict === 'no solution'
    ? 'no solution'
    : r.verdict === 'demand lost'
      ? `${fixed(r.lost ?? 0, 1)} MW lost`
      : r.worst === null
        ? r.verdict
        : `${fixed(r.worst, 0)} %`

export function SecurityBadge() {
  const { at, work } = useSecurity()
  if (at === 'none' || at === 'off') return null
  const result = work.result
  const count = Number(result?.summary.outages ?? 0)
  const bad = Number(result?.summary.outages_bad ?? 0)
  const lost = Number(result?.summary.outages_with_loss ?? 0)
  const solved = !!result && count > 0
  const fresh = at === 'here'
  const rows = result ? rowsOf(result) : []
  const worst = rows[0]
  const found = bad
    ? { word: 'not secure', told: `${bad} of ${count}`, title: 'Not secure' }
    : lost
      ? { word: 'limits kept', told: `${lost} of ${count} take demand`, title: 'Limits kept, demand lost' }
      : { word: 'secure', told: `${count} outages`, title: 'Secure' }
  const word = !fresh
    ? at === 'long'
      ? 'outages not followed'
      : 'outages …'
    : solved
      ? found.word
      : 'outages unknown'
  const tone = !fresh || !solved ? 'quiet' : bad ? 'bad' : 'good'
  const all = () => {
    showAlso(BACKGROUND, 'outages')
    openView('study outages', 'half')
  }
  return (
    <DialogTrigger>
      <Pill $tone={tone} data-testid="security" data-state={fresh ? (bad ? 'bad' : 'secure') : at}>
        <b>{word}</b>
        {fresh && solved && (
          <span>
            {found.told}
            {bad > 0 && worst && <i> · {worst.name}</i>}
          </span>
        )}
      </Pill>
      <Popover placement="bottom end">
        <Body aria-label="Outages of the model">
          {({ close }) => (
            <>
              <h2>{fresh && solved ? found.title : 'Outages'}</h2>
              <p>
                {at === 'long'
                  ? 'Working out all outages of the model takes too long to follow every edit. Ask for it when you want it.'
                  : !result
                    ? (work.problem ?? 'The outages of the model are being worked out.')
                    : result.statement}
              </p>
              {result && !fresh && at === 'stale' && (
                <p className="quiet">Out of date: it is being worked out again.</p>
              )}
              <ul>
                {rows.slice(0, SHOWN).map((r) => (
                  <li key={`${r.id} ${r.name}`}>
                    <button type="button" onClick={() => select(r.id, { reveal: true })}>
                      {r.name}
                    </button>
                    <span>{figure(r)}</span>
                  </li>
                ))}
              </ul>
              <div className="acts">
                {at === 'long' && <Plain onPress={checkNow}>Work them out now</Plain>}
                {result && (
                  <Plain
                    onPress={() => {
                      close()
                      all()
                    }}
                  >
                    Show all outages
                  </Plain>
                )}
              </div>
              <p className="quiet">
                {result && `${count} outages in ${fixed(work.took_s, 1)} s, by the AC load flow. `}
                Which count stands in the model data under outages and outage rules; the settings switch this
                off.
              </p>
            </>
          )}
        </Body>
      </Popover>
    </DialogTrigger>
  )
}
