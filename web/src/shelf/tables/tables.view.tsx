import { later } from '../later'
import type { View } from '../registry'

export const view: View = {
  id: 'tables',
  label: 'Tables',
  desk: 'now',
  order: 30,
  Body: later(async () => (await import('./TablesView')).TablesView),
}
