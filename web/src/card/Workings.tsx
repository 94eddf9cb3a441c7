/** How the figures of an element follow from what was entered: formula, inputs, result, source. */
import { useQuery } from '@tanstack/react-query'
import styled from 'styled-components'
import { TAB, type Working } from '../api/client'
import { aboutQuery, workingsQuery } from '../api/queries'
import { significant } from '../design/format'
import { font } from '../design/tokens'
import type { Item } from '../model/items'
import { useBench, useLiveToken, useParts } from '../session/store'

const Part = styled.section`
  margin-bottom: 14px;
  h3 { font-size: 13px; font-weight: 600; margin-bottom: 2px; }
  .note { color: ${(p) => p.theme.quiet}; font-size: 12px; }
`
const Row = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) auto; gap: 0 10px; padding: 4px 0; border-bottom: 1px solid ${(p) => p.theme.rule};
  .value { font: 500 12.5px ${font.mono}; text-align: right; white-space: nowrap; }
  .how { grid-column: 1 / -1; font: 400 11.5px/1.5 ${font.mono}; color: ${(p) => p.theme.quiet}; overflow-wrap: anywhere; }
  .source { font-family: ${font.sans}; }
`
const Scroll = styled.div`
  overflow-x: auto; margin: 4px 0 8px; &:focus-visible { outline-offset: -2px; }
  table { border-collapse: collapse; font: 400 11px ${font.mono}; } th { font-weight: 500; color: ${(p) => p.theme.quiet}; padding: 1px 6px; }
  td { padding: 1px 6px; text-align: right; white-space: nowrap; } caption { text-align: left; font-family: ${font.sans}; color: ${(p) => p.theme.quiet}; font-size: 12px; }
`
const Terms = styled.details`
  summary { color: ${(p) => p.theme.quiet}; font-size: 12px; }
  li { font: 400 11px/1.6 ${font.mono}; overflow-wrap: anywhere; } ul { padding-left: 14px; margin: 2px 0; }
`
const Sheet = styled.a`display: inline-block; color: ${(p) => p.theme.accent}; margin-bottom: 10px;`
const None = styled.p`color: ${(p) => p.theme.quiet};`

export function Workings({ item }: { item: Item }) {
  const { project, revision } = useParts('project', 'revision')
  const { data, isError } = useQuery({
    ...aboutQuery(project?.id ?? '', revision, item.id),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  const flow = useFlowWorkings(item)
  if (isError) return <None>The workings could not be read.</None>
  if (!data) return <None>Working it out …</None>
  if (!data.workings.length && !flow.length) return <None>Nothing follows from the data of {item.name}.</None>
  return (
    <>
      {flow.length > 0 && (
        <Sheet
          href={`/api/projects/${project?.id}/results/live/workings-sheet/${encodeURIComponent(item.id)}?tab=${TAB}`}
          download
        >
          Spreadsheet with live formulas
        </Sheet>
      )}
      {flow.map((w) => (
        <OneWorking key={w.title} working={w} />
      ))}
      {data.workings.map((w) => (
        <OneWorking key={w.title} working={w} />
      ))}
    </>
  )
}

/** The worked figures of the result on the screen. */
function useFlowWorkings(item: Item): readonly Working[] {
  const project = useBench((s) => s.project?.id)
  const token = useLiveToken()
  const { data } = useQuery({
    ...workingsQuery(project ?? '', 'live', token, item.id),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  return data?.workings ?? []
}

export function OneWorking({ working }: { working: Working }) {
  return (
    <Part>
      <h3>{working.title}</h3>
      {working.steps.map((s) => (
        <Row key={`${s.symbol} ${s.label}`}>
          <span>{s.label}</span>
          <span className="value">
            {typeof s.value === 'number' ? significant(s.value, 4) : s.value} {s.unit}
          </span>
          <span className="how">
            {s.formula ? `${s.symbol} = ${s.formula}` : `${s.symbol} given`}
            {s.inputs && s.inputs !== s.formula ? ` = ${s.inputs}` : ''}
            {s.source && <span className="source"> · {s.source}</span>}
          </span>
        </Row>
      ))}
      {working.matrices.map((m) => (
        <MatrixTable key={m.label} matrix={m} />
      ))}
      {working.note && <p className="note">{working.note}</p>}
    </Part>
  )
}

function MatrixTable({ matrix }: { matrix: Working['matrices'][number] }) {
  return (
    <>
      <Scroll tabIndex={0} role="region" aria-label={matrix.label}>
        <table>
          <caption>
            {matrix.label}, {matrix.unit}
          </caption>
          <thead>
            <tr>
              <th />
              {matrix.names.map((n) => (
                <th key={n}>{n}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {matrix.rows.map((row, i) => (
              <tr key={matrix.names[i]}>
                <th>{matrix.names[i]}</th>
                {row.map((z, k) => (
                  <td key={matrix.names[k]}>{entry(z[0] ?? 0, z[1] ?? 0)}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {matrix.terms.length > 0 && (
        <Terms>
          <summary>each term</summary>
          <ul>
            {matrix.terms.map((t) => (
              <li key={t}>{t}</li>
            ))}
          </ul>
        </Terms>
      )}
    </>
  )
}

function entry(re: number, im: number): string {
  const sign = im < 0 ? '−' : '+'
  return re === 0
    ? `${im < 0 ? '−' : ''}j${Math.abs(im).toFixed(4)}`
    : `${re.toFixed(4)}${sign}j${Math.abs(im).toFixed(4)}`
}
