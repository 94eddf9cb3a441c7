/** What is under way beside the work: how many studies and how far, quiet and out of the way; nothing when there is none. */
import { Button } from 'react-aria-components'
import styled from 'styled-components'
import { useShallow } from 'zustand/react/shallow'
import { font } from '../design/tokens'
import { isUnderWay, useJobs } from '../session/jobs'
import { openView } from '../shelf/desks'

const Pill = styled(Button)`
  display: flex; align-items: center; gap: 7px; height: 28px; padding: 0 9px; border-radius: 5px; border: 1px solid transparent; background: transparent;
  color: ${(p) => p.theme.quiet}; font: 400 12px ${font.mono}; white-space: nowrap; cursor: default;
  &[data-hovered] { background: ${(p) => p.theme.accentWash}; }
  circle { fill: none; stroke-width: 3; stroke: ${(p) => p.theme.rule}; } circle + circle { stroke: ${(p) => p.theme.accent}; }
`
const R = 6
const ROUND = 2 * Math.PI * R

export function JobsMark() {
  const { count, share } = useJobs(
    useShallow((s) => {
      const under = [...s.jobs.values()].filter(isUnderWay)
      const sum = under.reduce((a, j) => a + j.fraction, 0)
      return { count: under.length, share: under.length ? Math.round((100 * sum) / under.length) : 0 }
    }),
  )
  if (!count) return null
  const words = `${count} ${count === 1 ? 'study' : 'studies'} under way, ${share} %`
  return (
    <Pill aria-label={`${words}: show the jobs`} onPress={() => openView('jobs')} data-testid="jobs-mark">
      <svg width={16} height={16} viewBox="0 0 16 16" aria-hidden="true">
        <circle cx={8} cy={8} r={R} />
        <circle
          cx={8}
          cy={8}
          r={R}
          strokeDasharray={`${(ROUND * share) / 100} ${ROUND}`}
          transform="rotate(-90 8 8)"
        />
      </svg>
      {count > 1 ? `${count} · ` : ''}
      {share} %
    </Pill>
  )
}
