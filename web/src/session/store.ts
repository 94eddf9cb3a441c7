/** The bench's state: one open project, its network and result, and what is selected. */
import { create } from 'zustand'
import { useShallow } from 'zustand/react/shallow'
import type { Project } from '../api/client'
import { type Item, type Items, ofKind } from '../model/items'
import { setPrefs, usePrefs, type Way } from '../model/prefs'
import { type Result, viewed } from '../model/results'

/** What the sheet shows by colour: a quantity by its id, or one of these. */
export const OTHER_LENSES = [
  'both',
  'flow',
  'difference',
  'feeder',
  'area',
  'supply',
  'study',
  'plain',
] as const
export type Lens = (typeof OTHER_LENSES)[number] | (string & {})

/** Figures of a study shown by colour: of buses or branches, by id. */
export interface StudyLens {
  readonly label: string
  readonly unit: string
  readonly values: ReadonlyMap<string, number>
  readonly most: number
  readonly grows: boolean
  /** Revision of the network the figures are of. */
  readonly revision: number
}

/** A column of a study's table as colours on the sheet. */
export function lensOf(
  ids: readonly string[],
  column: {
    readonly label: string
    readonly unit?: string | null
    readonly values?: readonly unknown[] | null
  },
  revision = useBench.getState().revision,
) {
  const values = new Map<string, number>()
  let most = 1e-9
  ids.forEach((id, i) => {
    const v = column.values?.[i]
    if (typeof v !== 'number') return
    values.set(id, v)
    most = Math.max(most, Math.abs(v))
  })
  // What is never below zero only grows: its scale begins there.
  const grows = [...values.values()].every((v) => v >= 0)
  useBench.setState({
    study: { label: column.label, unit: column.unit ?? '', values, most, grows, revision },
    lens: 'study',
  })
}

/** A kept run being looked at: the network as it stood then, not to be edited. */
export interface Looking {
  readonly name: string
  readonly revision: number
  readonly back: { readonly items: Items; readonly raw: Result | null }
}

/** A second bus is being chosen: to grow something between two, or to join them. */
export interface Picking {
  readonly what: string
  readonly label: string
  readonly from: string
}

export interface Pinned {
  readonly label: string
  readonly result: Result
  readonly raw: Result
  /** The kept run behind it, once the service has it. */
  readonly run: string | null
}

const NONE: ReadonlySet<string> = new Set()

export interface Notice {
  readonly id: number
  readonly tone: 'problem' | 'news'
  readonly text: string
}

export interface BenchState {
  project: Project | null
  revision: number
  /** Why the project can only be read: stored rows of it are damaged. */
  damage: string | null
  /** Another one whenever the network may have other stations or feeders. */
  wiring: number
  items: Items
  /** The last good result; stays while a later one fails. */
  result: Result | null
  /** The same result with every column, whatever way it is looked at. */
  raw: Result | null
  /** The result of the network as it stands when it could not be solved. */
  failed: Result | null
  undoLabel: string | null
  redoLabel: string | null
  /** Factors being tried with a slider, not kept yet. */
  trying: {
    demand?: number
    generation?: number
    lost?: { ids: readonly string[]; name: string; closed?: readonly string[] }
    moment?: string
    year?: number
  } | null
  busy: number
  selected: string | null
  /** Everything selected, the one the card is about included; empty when that is the only one. */
  chosen: ReadonlySet<string>
  picking: Picking | null
  /** The item whose name is being typed. */
  renaming: string | null
  /** A result others are compared with: every view shows the difference from it. */
  pinned: Pinned | null
  /** How many runs this bench has had kept: a list of runs from before the last is out of date. */
  runsKept: number
  /** What was copied, as it stood then. */
  clip: readonly Item[]
  /** Whose data is to be applied to others. */
  dataFrom: string | null
  /** Something that wants a few figures first: what is grown where, or how often to paste. */
  asking: { readonly what: string; readonly at: string } | null
  grid: boolean
  hovered: string | null
  /** What is pointed at on an axis that plots share, and in which plot. */
  pointed: { axis: string; value: number; by: string } | null
  /** Bumped to ask the sheet to bring the selection into view. */
  reveal: number
  /** Bumped to ask the sheet to bring all that is selected into view. */
  span: number
  /** Bumped to ask the sheet to show everything. */
  fit: number
  lens: Lens
  /** The view on the shelf, by its id. */
  shelf: string
  shelfOpen: boolean
  cardOpen: boolean
  arrangement: 'schematic' | 'map'
  study: StudyLens | null
  looking: Looking | null
  /** Whose figures somebody asks about: the card opens its workings. */
  asked: string | null
  /** What was found last, to step through. */
  found: readonly string[]
  /** The scheme the shelf is about. */
  scheme: string | null
  /** Which overlay is open beside the palette. */
  dialog: 'labels' | 'picture' | null
  notices: readonly Notice[]
}

export const initial: BenchState = {
  project: null,
  revision: 0,
  damage: null,
  wiring: 0,
  items: new Map(),
  result: null,
  raw: null,
  failed: null,
  undoLabel: null,
  redoLabel: null,
  trying: null,
  busy: 0,
  selected: null,
  chosen: NONE,
  picking: null,
  renaming: null,
  pinned: null,
  runsKept: 0,
  clip: [],
  dataFrom: null,
  asking: null,
  grid: false,
  hovered: null,
  pointed: null,
  reveal: 0,
  span: 0,
  fit: 0,
  lens: 'both',
  shelf: 'findings',
  shelfOpen: true,
  cardOpen: true,
  arrangement: 'schematic',
  study: null,
  looking: null,
  asked: null,
  found: [],
  scheme: null,
  dialog: null,
  notices: [],
}

export const useBench = create<BenchState>(() => initial)
const { getState, setState } = useBench

/** The named parts of the state; whoever asks is drawn again when one of them changes, and by nothing else. */
export const useParts = <K extends keyof BenchState>(...names: K[]): Pick<BenchState, K> =>
  useBench(useShallow((s) => Object.fromEntries(names.map((n) => [n, s[n]])) as Pick<BenchState, K>))

export const select = (id: string | null, options?: { reveal?: boolean }) =>
  setState((s) => ({
    selected: id,
    chosen: NONE,
    picking: id ? s.picking : null,
    reveal: options?.reveal ? s.reveal + 1 : s.reveal,
    cardOpen: id ? true : s.cardOpen,
  }))

/** Everything selected, in no order. */
export const selection = (): string[] => {
  const { selected, chosen } = getState()
  return chosen.size ? [...chosen] : selected ? [selected] : []
}

/** Select several at once; the card is about the first of them. */
export function selectMany(ids: Iterable<string>, options?: { reveal?: boolean }) {
  const { items } = getState()
  const found = [...ids].filter((id) => items.has(id))
  setState((s) => ({
    selected: found[0] ?? null,
    chosen: found.length > 1 ? new Set(found) : NONE,
    cardOpen: true,
    span: options?.reveal ? s.span + 1 : s.span,
  }))
}

/** Add to the selection, or take away what is in it. */
export function toggle(id: string) {
  const now = new Set(selection())
  if (!now.delete(id)) now.add(id)
  selectMany(now)
}

/** Look at results another way: labels, tables, profile and lenses alike. */
export function lookBy(way: Way) {
  setPrefs({ way })
  setState((s) => ({
    result: s.raw && viewed(s.raw, way),
    pinned: s.pinned && { ...s.pinned, result: viewed(s.pinned.raw, way) },
  }))
}

/** A result with all its columns, as the state holds it. */
export const shownResult = (raw: Result) => ({ raw, result: viewed(raw, usePrefs.getState().way) })

/** Another one whenever the live result of this tab is another. */
export const useLiveToken = () =>
  useBench(
    (s) =>
      `${s.revision} ${s.trying?.demand ?? ''} ${s.trying?.generation ?? ''} ${s.trying?.lost?.name ?? ''} ${s.trying?.moment ?? ''} ${s.trying?.year ?? ''} ${s.result?.solve_ms ?? ''}`,
  )

/** What the present result is of, in words. */
export function resultLabel(): string {
  const { result, items, trying } = getState()
  const condition = items.get(String(items.get('settings')?.condition))
  const demand = trying?.demand ?? (condition?.demand_factor as number | undefined) ?? 1
  const at = demand === 1 ? '' : ` at ${Math.round(demand * 100)} %`
  if (trying?.year) return `${condition?.name ?? 'Condition'}, ${trying.year}`
  if (trying?.moment) return `${condition?.name ?? 'Condition'}, ${trying.moment.replace('T', ' ')}`
  const without = trying?.lost ? ` after the loss of ${trying.lost.name}` : ''
  return `${condition?.name ?? 'Condition'}${at}${without}, revision ${result?.revision ?? 0}`
}

export const fitSheet = () => setState((s) => ({ fit: s.fit + 1 }))

export const hover = (id: string | null) => {
  if (getState().hovered !== id) setState({ hovered: id })
}

/** Point at a place of an axis that plots share; `axis` null: at none any more. */
export function pointAt(axis: string | null, value: number, by: string): void {
  const { pointed } = getState()
  const next = axis && Number.isFinite(value) ? { axis, value, by } : null
  if (next ?? pointed) setState({ pointed: next })
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
/** All of one kind; the same list as long as none of them has changed. */
export const useKind = (kind: string) => useBench(useShallow((s) => ofKind(s.items, kind)))

export const useSettings = () => useBench((s) => s.items.get('settings'))
export const useCondition = () =>
  useBench((s) => {
    const id = s.items.get('settings')?.condition
    return typeof id === 'string' ? s.items.get(id) : undefined
  })

/** Mark everything that was found, and go to the first. */
export function markFound(ids: readonly string[]) {
  selectMany(ids)
  setState((s) => ({ found: ids, reveal: s.reveal + 1 }))
}

/** The next or the one before among what was found; all of it stays marked. */
export function stepFound(by: 1 | -1) {
  const { found, selected } = getState()
  if (!found.length) return
  const at = found.indexOf(selected ?? '')
  const next = found[(at + by + found.length) % found.length] ?? found[0]!
  setState((s) => ({ selected: next, chosen: new Set(found), reveal: s.reveal + 1 }))
}

/** How did the figures of an element come about? */
export const how = (id: string) => setState({ selected: id, chosen: NONE, cardOpen: true, asked: id })
