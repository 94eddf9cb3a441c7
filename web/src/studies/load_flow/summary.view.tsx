import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'summary',
  label: 'Summary',
  desk: 'now',
  order: 50,
  Body: later(async () => (await import('./SummaryView')).SummaryView),
}
