import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: View = {
  id: 'catalogue',
  label: 'Catalogue',
  desk: 'model',
  order: 30,
  Body: later(async () => (await import('./CatalogueView')).CatalogueView),
}
