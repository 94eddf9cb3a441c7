import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'study over_time',
  label: 'Over time',
  desk: 'limits',
  order: 23,
  study: 'over_time',
  Body: later(async () => (await import('./OverTime')).OverTime),
}
