import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'profile',
  label: 'Profile',
  desk: 'now',
  order: 20,
  Body: later(async () => (await import('./ProfileView')).ProfileView),
}
