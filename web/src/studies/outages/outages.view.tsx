import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'study outages',
  label: 'Outages',
  desk: 'limits',
  order: 20,
  study: 'outages',
  Body: later(async () => (await import('./Outages')).Outages),
}
