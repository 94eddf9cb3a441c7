/** What the lens and the result make of every element: colour, liveness, finding. */
import type { Finding } from '../api/client'
import type { Palette } from '../design/tokens'
import { busesOf, type Items, text } from '../model/items'
import type { Bands } from '../model/prefs'
import { figure, type Result, type ResultTable, values } from '../model/results'
import type { Lens, StudyLens } from '../session/store'
import { type LensColours, lensColours } from './lens'

export interface Paint {
  readonly bus: (id: string) => string
  readonly branch: (id: string) => string
  readonly live: (id: string) => boolean
  /** Forward, backward or no flow of active power, from the from bus to the to bus. */
  readonly flow: (id: string) => -1 | 0 | 1
  /** Size of the flow as a share of the largest, where the lens shows flows; else 0. */
  readonly width: (id: string) => number
  readonly finding: (id: string) => Finding | undefined
  /** Colours of the phases or pairs of a bus or branch, where a result is looked at so: `A#123456|C#234567`; else empty. */
  readonly strands: (id: string) => string
}

/** Which feeder each bus belongs to, as a number for its colour. */
export type FeederOf = ReadonlyMap<string, number>

export interface Shown {
  readonly palette: Palette
  readonly lens: Lens
  readonly bands: Bands
  readonly items: Items
  readonly result: Result | null
  readonly feeders?: FeederOf
  readonly pinned?: Result | null
  readonly study?: StudyLens | null
}

interface Hues {
  readonly bus: (id: string) => string
  readonly branch: (id: string) => string
}

type Numbers = readonly (number | null)[]
const most = (list: Numbers) => list.reduce<number>((m, v) => Math.max(m, Math.abs(v ?? 0)), 1e-9)

export function makePaint(shown: Shown): Paint {
  const { lens, items, result } = shown
  const branches = result?.tables.branches
  const power = values(branches, 'from_active_power_mw') as Numbers
  const states = ['buses', 'branches', 'injections', 'windings'].map((name) => {
    const table = result?.tables[name]
    return { row: table?.row, state: values(table, 'state') as readonly string[] }
  })
  const worst = new Map<string, Finding>()
  for (const f of result?.findings ?? []) if (!worst.has(f.element)) worst.set(f.element, f)
  const largest = lens === 'flow' ? most(power) : 1
  const live = (id: string) => {
    for (const { row, state } of states) {
      const at = row?.get(id)
      if (at !== undefined) return state[at] === 'live'
    }
    return !result || !items.has(id)
  }
  return {
    ...hues(shown, live),
    live,
    flow: (id) => {
      const p = power[branches?.row.get(id) ?? -1]
      return typeof p !== 'number' || Math.abs(p) < 1e-6 ? 0 : p > 0 ? 1 : -1
    },
    width: (id) => (lens === 'flow' ? Math.abs(power[branches?.row.get(id) ?? -1] ?? 0) / largest : 0),
    finding: (id) => worst.get(id),
    strands: strandHues(shown),
  }
}

/** Lenses that tell phases apart. */
export const STRAND_LENSES: readonly Lens[] = ['both', 'voltage', 'loading', 'losses']

/** Columns by phase or pair that a lens reads of buses, and the parts they are for. */
const PARTS: readonly (readonly [string, readonly string[]])[] = [
  ['phase_*_voltage_pu', ['A', 'B', 'C']],
  ['line_*_voltage_pu', ['AB', 'BC', 'CA']],
]

function strandHues({ lens, result, bands, palette }: Shown): (id: string) => string {
  const colours = lensColours(palette, bands)
  const buses = result?.tables.buses
  const branches = result?.tables.branches
  const known = (table: ResultTable | undefined, name: string) =>
    !!table?.columns.some((c) => c.name === name)
  const column = (pattern: string, part: string) => pattern.replace('*', part.toLowerCase())
  const part = PARTS.find(([pattern, parts]) => known(buses, column(pattern, parts[0]!)))
  if (!part || !STRAND_LENSES.includes(lens)) return () => ''
  const [voltage, parts] = part
  const losses = lens === 'losses'
  const load = losses ? 'phase_*_loss_kw' : 'phase_*_loading_pct'
  const top = losses ? 1000 * most(values(branches, 'active_loss_mw') as Numbers) : 1
  const hue = losses ? (v: number) => colours.share(v, top) : colours.loading
  const of = (id: string, table: ResultTable | undefined, pattern: string, paint: (v: number) => string) => {
    const found = parts.flatMap((p) => {
      const value = figure(table, id, column(pattern, p))
      return value === undefined ? [] : [`${p}${paint(value)}`]
    })
    return found.join('|')
  }
  return (id) => {
    if (buses?.row.has(id)) return losses || lens === 'loading' ? '' : of(id, buses, voltage, colours.voltage)
    return lens === 'voltage' ? '' : of(id, branches, load, hue)
  }
}

/** One strand: its phase or pair, and its colour. */
export const strandsOf = (written: string): readonly (readonly [string, string])[] =>
  written.split('|').flatMap((w) => {
    const found = /^([A-C]+)(.+)$/.exec(w)
    return found ? [[found[1]!, found[2]!] as const] : []
  })

function hues(shown: Shown, live: (id: string) => boolean): Hues {
  const { palette, lens, items, result, bands, feeders = new Map(), pinned, study } = shown
  const colours = lensColours(palette, bands)
  const buses = result?.tables.buses
  const branches = result?.tables.branches
  const quiet = () => palette.quiet
  const voltage = byFigure(palette.ink, (id) => figure(buses, id, 'voltage_pu'), colours.voltage)
  const loading = byFigure(
    palette.quiet,
    (id) => figure(branches, id, 'loading_pct') ?? figure(result?.tables.windings, id, 'loading_pct'),
    colours.loading,
  )
  const of = (name: string, hue: (v: number) => string) =>
    byFigure(palette.quiet, (id) => figure(branches, id, name), hue)
  switch (lens) {
    case 'both':
      return { bus: voltage, branch: loading }
    case 'voltage':
      return { bus: voltage, branch: quiet }
    case 'loading':
      return { bus: () => palette.ink, branch: loading }
    case 'losses': {
      const top = most(values(branches, 'active_loss_mw') as Numbers)
      return { bus: () => palette.ink, branch: of('active_loss_mw', (v) => colours.share(v, top)) }
    }
    case 'drop':
      return { bus: voltage, branch: of('voltage_drop_pct', colours.drop) }
    case 'factor':
      return { bus: () => palette.ink, branch: of('from_power_factor', colours.factor) }
    case 'flow':
      return { bus: () => palette.ink, branch: () => palette.accent }
    case 'difference':
      return differenceHues(palette, colours, result, pinned ?? null)
    case 'feeder': {
      const hue = (n: number | undefined) => feederColour(palette, n)
      return { bus: (id) => hue(feeders.get(id)), branch: (id) => hue(ofBranch(items, feeders, id)) }
    }
    case 'area':
      return areaHues(palette, items)
    case 'supply':
      return {
        bus: (id) => (live(id) ? palette.good : palette.dead),
        branch: (id) => (live(id) ? palette.good : palette.dead),
      }
    case 'study': {
      const hue = byFigure(
        palette.quiet,
        (id) => study?.values.get(id),
        (v) => (study?.grows ? colours.upTo : colours.around)(v, study?.most ?? 1),
      )
      return { bus: hue, branch: hue }
    }
    default:
      return { bus: () => palette.ink, branch: quiet }
  }
}

const byFigure =
  (otherwise: string, read: (id: string) => number | undefined, hue: (v: number) => string) =>
  (id: string) => {
    const value = read(id)
    return value === undefined ? otherwise : hue(value)
  }

function differenceHues(
  palette: Palette,
  colours: LensColours,
  result: Result | null,
  pinned: Result | null,
): Hues {
  const change = (table: string, name: string) => (id: string) => {
    const now = figure(result?.tables[table], id, name)
    const then = figure(pinned?.tables[table], id, name)
    return now === undefined || then === undefined ? undefined : now - then
  }
  return {
    bus: byFigure(palette.quiet, change('buses', 'voltage_pu'), colours.difference),
    // Half the span of the voltage scale stands for 50 % of loading.
    branch: byFigure(palette.quiet, change('branches', 'loading_pct'), (v) => colours.around(v, 50)),
  }
}

function areaHues(palette: Palette, items: Items): Hues {
  const areas = [...items.values()].filter((i) => i.kind === 'area').map((i) => i.id)
  const hue = (bus: string) => {
    const n = areas.indexOf(text(items.get(bus), 'area'))
    return feederColour(palette, n < 0 ? undefined : n)
  }
  return {
    bus: hue,
    branch: (id) => {
      const item = items.get(id)
      const [first, second] = (item ? busesOf(item) : []).map(hue)
      return first === second ? (first ?? palette.quiet) : palette.quiet
    },
  }
}

const feederColour = (palette: Palette, n: number | undefined) =>
  n === undefined ? palette.quiet : (palette.feeders[n % palette.feeders.length] ?? palette.quiet)

/** A branch belongs to the feeder of its far bus: the first section is already part of what it starts. */
function ofBranch(items: Items, feeders: FeederOf, id: string): number | undefined {
  const item = items.get(id)
  const found = item ? busesOf(item).map((b) => feeders.get(b)) : []
  return found.length ? (found.at(-1) ?? found[0]) : undefined
}
