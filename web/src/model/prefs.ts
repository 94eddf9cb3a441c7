/** How things are shown, kept in this browser: units, digits, label sets, lens bands, table columns. No network data. */
import { create } from 'zustand'
import { persist } from 'zustand/middleware'

/** Which figures of a result per phase stand for it: the worst phase, each phase, sequences, or pairs of phases. */
export type Way = 'worst' | 'phases' | 'sequences' | 'line'
/** How phases are written. */
export type PhaseNames = 'ABC' | 'L123'

export type PowerUnit = 'MW' | 'kW'
export type CurrentUnit = 'A' | 'kA'
export type VoltageUnit = 'p.u.' | '%' | 'kV'

export interface Units {
  readonly power: PowerUnit
  readonly current: CurrentUnit
  readonly voltage: VoltageUnit
  /** Unit marks beside figures on the sheet. */
  readonly marks: boolean
  /** More (positive) or fewer digits than usual. */
  readonly digits: number
}

/** What stands beside buses, branches (at one end or both) and injections: names of result columns. */
export interface LabelSet {
  readonly id: string
  readonly name: string
  readonly names: boolean
  readonly buses: readonly string[]
  readonly branches: readonly string[]
  readonly bothEnds: boolean
  readonly injections: readonly string[]
}

export const LABEL_SETS: readonly LabelSet[] = [
  {
    id: 'essentials',
    name: 'Essentials',
    names: true,
    buses: ['voltage_pu'],
    branches: ['from_active_power_mw', 'loading_pct'],
    bothEnds: false,
    injections: ['active_power_mw'],
  },
  {
    id: 'flows',
    name: 'Power at both ends',
    names: true,
    buses: ['voltage_pu'],
    branches: ['from_active_power_mw', 'from_reactive_power_mvar'],
    bothEnds: true,
    injections: ['active_power_mw', 'reactive_power_mvar'],
  },
  {
    id: 'currents',
    name: 'Currents and loading',
    names: true,
    buses: ['voltage_kv'],
    branches: ['from_current_a', 'loading_pct'],
    bothEnds: false,
    injections: ['current_a'],
  },
  {
    id: 'losses',
    name: 'Losses and drop',
    names: true,
    buses: ['voltage_pu', 'angle_deg'],
    branches: ['active_loss_mw', 'voltage_drop_pct'],
    bothEnds: false,
    injections: [],
  },
  { id: 'names', name: 'Names alone', names: true, buses: [], branches: [], bothEnds: false, injections: [] },
  {
    id: 'figures',
    name: 'Figures alone',
    names: false,
    buses: ['voltage_pu'],
    branches: ['loading_pct'],
    bothEnds: false,
    injections: [],
  },
]

/** Where scales begin, turn and end, by quantity; where nobody has changed them they are as declared. */
export type Bands = Readonly<Record<string, readonly number[]>>

/** Of the difference from the pinned result, which is no quantity of its own. */
export const DIFFERENCE = 'difference'
export const DIFFERENCE_BAND = [-0.03, 0, 0.03] as const

/** Columns of a table in order; what is not named is hidden. */
export interface ColumnSet {
  readonly name: string
  readonly columns: readonly string[]
}

/** How much of the height a desk takes. */
export type Height = 'third' | 'half' | 'all'

/** What a desk shows: its view, how high, and a view beside it. */
export interface DeskState {
  readonly view?: string
  readonly height: Height
  readonly beside?: string
}

export interface Prefs {
  units: Units
  labelSet: string
  ownLabels: readonly LabelSet[]
  bands: Bands
  heat: boolean
  animate: boolean
  way: Way
  phaseNames: PhaseNames
  /** Chosen columns by table; all of them where none are chosen. */
  columns: Readonly<Record<string, readonly string[]>>
  desks: Readonly<Record<string, DeskState>>
  columnSets: Readonly<Record<string, readonly ColumnSet[]>>
}

export const initialPrefs: Prefs = {
  units: { power: 'MW', current: 'A', voltage: 'p.u.', marks: true, digits: 0 },
  labelSet: 'essentials',
  ownLabels: [],
  bands: {},
  heat: false,
  animate: false,
  way: 'worst',
  phaseNames: 'ABC',
  columns: {},
  desks: {},
  columnSets: {},
}

/** Names that label sets and scales had before quantities were declared by the service. */
const FORMER: Readonly<Record<string, string>> = {
  active_power: 'from_active_power_mw',
  reactive_power: 'from_reactive_power_mvar',
  current_a: 'from_current_a',
  power_factor: 'from_power_factor',
}
const FORMER_BANDS: Readonly<Record<string, string>> = {
  voltage: 'buses.voltage_pu',
  loading: 'branches.loading_pct',
  drop: 'branches.voltage_drop_pct',
  factor: 'branches.from_power_factor',
}

/** Preferences of an earlier version as they are written now. */
export function migrated(kept: unknown, version: number): Prefs {
  const found = { ...initialPrefs, ...(kept as Partial<Prefs>) }
  if (version >= 2) return found
  const bands = Object.entries(found.bands).map(([k, v]) => [FORMER_BANDS[k] ?? k, v] as const)
  const ownLabels = found.ownLabels.map((s) => ({ ...s, branches: s.branches.map((n) => FORMER[n] ?? n) }))
  return { ...found, bands: Object.fromEntries(bands), ownLabels }
}

export const usePrefs = create<Prefs>()(
  persist(() => initialPrefs, { name: 'vast-mesh-prefs', version: 2, migrate: migrated }),
)
export const setPrefs = usePrefs.setState

export const labelSets = (own: readonly LabelSet[]) => [...LABEL_SETS, ...own]

export function activeLabels({ labelSet, ownLabels }: Prefs): LabelSet {
  return labelSets(ownLabels).find((s) => s.id === labelSet) ?? LABEL_SETS[0]!
}
