import { later } from '../later'
import type { View } from '../registry'

export const view: View = {
  id: 'data',
  label: 'Data',
  desk: 'model',
  order: 20,
  Body: later(async () => (await import('./DataTables')).DataTables),
}
