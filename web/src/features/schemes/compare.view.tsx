import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'compare',
  label: 'Compare',
  desk: 'decide',
  order: 20,
  Body: later(async () => (await import('./Compare')).CompareView),
}
