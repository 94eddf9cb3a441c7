import { later } from '../../shelf/later'
import type { View } from '../../shelf/registry'

export const view: readonly View[] = [
  {
    id: 'study board',
    label: 'Board',
    desk: 'plan',
    order: 1,
    study: 'board',
    Body: later(async () => (await import('./Planning')).Board),
  },
  {
    id: 'study best_plan',
    label: 'Best plan',
    desk: 'plan',
    order: 20,
    study: 'best_plan',
    Body: later(async () => (await import('./Planning')).BestPlan),
  },
]
