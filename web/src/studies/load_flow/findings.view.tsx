import { useBench } from '../../session/store'
import type { View } from '../../shelf/registry'
import { Findings } from './Findings'

const useCount = () => {
  const findings = useBench((s) => s.result?.findings)
  return { count: findings?.length ?? 0, serious: !!findings?.some((f) => f.severity === 'breach') }
}

export const view: View = {
  id: 'findings',
  label: 'Findings',
  desk: 'now',
  order: 10,
  useCount,
  Body: Findings,
}
