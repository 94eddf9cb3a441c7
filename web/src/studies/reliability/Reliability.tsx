/** The page of reliability, where the story of a failure is played on the sheet. */
import { useQuery } from '@tanstack/react-query'
import styled from 'styled-components'
import { studiesQuery } from '../../api/queries'
import { endTrial, tryLoss } from '../../session/live'
import { useBench } from '../../session/store'
import { StudyPage } from '../StudyPage'
import type { StudyResult } from '../useStudy'
import { Causes } from './Causes'

export function Reliability() {
  const study = useQuery(studiesQuery).data?.find((s) => s.name === 'reliability')
  return study ? <StudyPage study={study} Beside={StorySteps} panes={PANES} /> : null
}

const PANES = [{ id: 'causes', label: 'Causes', Body: Causes }]

const Line = styled.span`
  display: inline-flex; align-items: center; gap: 4px; color: ${(p) => p.theme.quiet}; min-width: 0;
  && button {
    border: 1px solid ${(p) => p.theme.rule}; background: ${(p) => p.theme.paper}; color: ${(p) => p.theme.ink}; border-radius: 4px;
    min-height: 26px; padding: 0 7px; font-variant-numeric: tabular-nums; white-space: nowrap;
  }
  && button[aria-pressed='true'] { border-color: ${(p) => p.theme.accent}; background: ${(p) => p.theme.accentWash}; }
`
const APART = '; '
const MOST = 1000

/** The steps of the story by their times: each shows the sheet as it is from then on. */
function StorySteps({ result }: { result: StudyResult }) {
  const items = useBench((s) => s.items)
  const shown = useBench((s) => s.trying?.lost?.name)
  const columns = result.tables.story?.columns ?? []
  const of = (name: string) => (columns.find((c) => c.name === name)?.values ?? []) as string[]
  const [at, what, without, ties] = [of('at'), of('what'), of('without'), of('ties')]
  const name = result.tables.story?.label ?? ''
  if (at.length < 2) return null
  const known = (text: string | undefined) => (text ?? '').split(APART).filter((i) => items.has(i))
  const show = (n: number) => {
    const lost = known(without[n]).slice(0, MOST)
    if (lost.length) tryLoss(lost, called(n), known(ties[n]))
    else void endTrial()
  }
  const called = (n: number) => `${name}, ${at[n]}`
  return (
    <Line role="group" aria-label={`${name}, step by step on the sheet`}>
      {name}
      {at.map((time, n) => (
        <button
          // biome-ignore lint/suspicious/noArrayIndexKey: steps stand in order and nothing else tells them apart
          key={n}
          type="button"
          title={what[n]}
          aria-pressed={shown === called(n)}
          onClick={() => show(n)}
        >
          {time}
        </button>
      ))}
    </Line>
  )
}
