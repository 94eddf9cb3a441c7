import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'balancing',
  label: 'Phase balancing',
  desk: 'optimise',
  order: 30,
  study: 'balancing',
  Body: later(async () => (await import('./Balance')).Balance),
}
