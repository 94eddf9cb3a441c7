import type { View } from '../../shelf/registry'
import { Check } from './Check'
import { useChecks } from './useChecks'

const useCount = () => {
  const checks = useChecks()
  return { count: checks.length, serious: checks.some((c) => c.severity === 'breach') }
}

export const view: View = {
  id: 'check',
  label: 'Check',
  desk: 'model',
  order: 10,
  useCount,
  Body: Check,
}
