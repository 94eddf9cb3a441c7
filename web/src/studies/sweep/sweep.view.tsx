import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'sweep',
  label: 'Sweep',
  desk: 'decide',
  order: 40,
  study: 'sweep',
  Body: later(async () => (await import('./Sweep')).Sweep),
}
