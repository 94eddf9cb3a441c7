import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'schemes',
  label: 'Schemes',
  desk: 'decide',
  order: 10,
  keys: 'S',
  Body: later(async () => (await import('./SchemesView')).SchemesView),
}
