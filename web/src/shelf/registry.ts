/** What a view of the shelf is. Every view declares itself once; shelf, palette, keys and guide read this. */
import type { ComponentType } from 'react'
import { create } from 'zustand'

export type DeskId =
  | 'now'
  | 'studies'
  | 'limits'
  | 'reliability'
  | 'optimise'
  | 'decide'
  | 'plan'
  | 'model'
  | 'record'

export interface Desk {
  readonly id: DeskId
  readonly label: string
  readonly about: string
  readonly keys: string
}

/** Groups of views by what the planner is doing. */
export const DESKS: readonly Desk[] = [
  { id: 'now', label: 'Now', about: 'the present state', keys: '1' },
  { id: 'studies', label: 'Studies', about: 'one question, one answer', keys: '2' },
  { id: 'limits', label: 'Limits', about: 'outages, transfer, and how far the edge is', keys: '3' },
  { id: 'reliability', label: 'Reliability', about: 'how often, how long, why, and at what cost', keys: '4' },
  { id: 'optimise', label: 'Optimise', about: 'what is best, and what the limits cost', keys: '5' },
  { id: 'decide', label: 'Decide', about: 'schemes, conditions and what they change', keys: '6' },
  { id: 'plan', label: 'Plan', about: 'what to build, when, and what it costs', keys: '7' },
  { id: 'model', label: 'Model', about: 'what the network is made of', keys: '8' },
  { id: 'record', label: 'Record', about: 'what was calculated and done', keys: '9' },
]

export interface View {
  readonly id: string
  readonly label: string
  readonly desk: DeskId
  /** Place among the views of its desk. */
  readonly order: number
  readonly keys?: string
  /** The study it is the page of. */
  readonly study?: string
  /** A number beside its name: how many, and whether it is serious. */
  readonly useCount?: () => { readonly count: number; readonly serious: boolean }
  readonly Body: ComponentType
}

/** All views there are, in order. */
export const useViews = create<readonly View[]>(() => [])

/** Take up views; those of studies without a view of their own are added when the service has listed them. */
export function register(more: readonly View[]) {
  const views = useViews.getState()
  const known = new Set(views.map((v) => v.id))
  const fresh = more.filter((v) => !known.has(v.id))
  if (fresh.length)
    useViews.setState(
      [...views, ...fresh].sort((a, b) => a.order - b.order),
      true,
    )
}

export const allViews = () => useViews.getState()
export const viewsOf = (desk: DeskId): readonly View[] => allViews().filter((v) => v.desk === desk)
export const viewNamed = (id: string): View | undefined => allViews().find((v) => v.id === id)
