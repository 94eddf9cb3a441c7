import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'conditions',
  label: 'Conditions',
  desk: 'decide',
  order: 30,
  Body: later(async () => (await import('./ConditionsView')).ConditionsView),
}
