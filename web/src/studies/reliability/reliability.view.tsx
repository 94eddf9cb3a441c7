import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'study reliability',
  label: 'Interruptions',
  desk: 'reliability',
  order: 5,
  study: 'reliability',
  Body: later(async () => (await import('./Reliability')).Reliability),
}
