import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'phasors',
  label: 'Phasors',
  desk: 'now',
  order: 40,
  keys: 'Shift+P',
  Body: later(async () => (await import('./PhasorsView')).PhasorsView),
}
