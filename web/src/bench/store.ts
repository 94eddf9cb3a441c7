/** The bench's state: one open project, its network and result, and what is selected. */
import { create } from 'zustand'
import type { Project } from '../api/client'
import type { Item, Items, Result } from './model'

export type Lens = 'both' | 'voltage' | 'loading' | 'plain'
export type ShelfView = 'findings' | 'tables' | 'logbook'

export interface Notice {
  readonly id: number
  readonly tone: 'problem' | 'news'
  readonly text: string
}

export interface BenchState {
  project: Project | null
  revision: number
  items: Items
  /** The last good result; stays while a later one fails. */
  result: Result | null
  /** The result of the network as it stands when it could not be solved. */
  failed: Result | null
  undoLabel: string | null
  redoLabel: string | null
  /** Factors being tried with a slider, not kept yet. */
  trying: { demand?: number; generation?: number } | null
  busy: number
  selected: string | null
  hovered: string | null
  /** Bumped to ask the sheet to bring the selection into view. */
  reveal: number
  /** Bumped to ask the sheet to show everything. */
  fit: number
  lens: Lens
  shelf: ShelfView
  shelfOpen: boolean
  cardOpen: boolean
  notices: readonly Notice[]
}

export const initial: BenchState = {
  project: null,
  revision: 0,
  items: new Map(),
  result: null,
  failed: null,
  undoLabel: null,
  redoLabel: null,
  trying: null,
  busy: 0,
  selected: null,
  hovered: null,
  reveal: 0,
  fit: 0,
  lens: 'both',
  shelf: 'findings',
  shelfOpen: true,
  cardOpen: true,
  notices: [],
}

export const useBench = create<BenchState>(() => initial)
const { getState, setState } = useBench

export const select = (id: string | null, options?: { reveal?: boolean }) =>
  setState((s) => ({
    selected: id,
    reveal: options?.reveal ? s.reveal + 1 : s.reveal,
    cardOpen: id ? true : s.cardOpen,
  }))

export const fitSheet = () => setState((s) => ({ fit: s.fit + 1 }))

export const hover = (id: string | null) => {
  if (getState().hovered !== id) setState({ hovered: id })
}

let noticeNumber = 0
export function notify(tone: Notice['tone'], text: string) {
  const notice = { id: ++noticeNumber, tone, text }
  setState((s) => ({ notices: [...s.notices.slice(-2), notice] }))
  if (tone === 'news') setTimeout(() => dismiss(notice.id), 6000)
}

export const dismiss = (id: number) => setState((s) => ({ notices: s.notices.filter((n) => n.id !== id) }))

export const useItem = (id: string | null): Item | undefined =>
  useBench((s) => (id ? s.items.get(id) : undefined))
export const useSettings = () => useBench((s) => s.items.get('settings'))
export const useCondition = () =>
  useBench((s) => {
    const id = s.items.get('settings')?.condition
    return typeof id === 'string' ? s.items.get(id) : undefined
  })
