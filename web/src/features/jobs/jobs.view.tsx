import { isUnderWay, useJobs } from '../../session/jobs'
import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

const useCount = () => {
  const count = useJobs((s) => [...s.jobs.values()].filter(isUnderWay).length)
  return { count, serious: false }
}

export const view: View = {
  id: 'jobs',
  label: 'Jobs',
  desk: 'record',
  order: 5,
  useCount,
  Body: later(async () => (await import('./JobsView')).JobsView),
}
