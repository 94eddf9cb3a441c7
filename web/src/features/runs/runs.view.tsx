import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'runs',
  label: 'Runs',
  desk: 'record',
  order: 10,
  Body: later(async () => (await import('./RunsView')).RunsView),
}
