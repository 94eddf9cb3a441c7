/** What the lens and the result make of every element: colour, liveness, finding. */
import type { Finding } from '../api/client'
import type { Palette } from '../design/tokens'
import { busesOf, type Items, text } from '../model/items'
import type { Bands } from '../model/prefs'
import { type Declared, eachOf, quantityNamed, standing } from '../model/quantities'
import { figure, type Result, values } from '../model/results'
import type { Lens, StudyLens } from '../session/store'
import { around, bandOf, differenceBand, diverging, hueOf, upTo } from './lens'

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

/** The quantities that a lens shows: of buses and of branches. */
export function lensQuantities(lens: Lens, result: Result | null): readonly Declared[] {
  const both = [standing(result, 'voltage'), standing(result, 'loading')].filter((q) => q !== undefined)
  if (lens === 'both') return both
  const one = quantityNamed(result, lens)
  return one ? [one] : []
}

/** Phases or pairs that a lens tells apart. */
export function lensStrands(lens: Lens, result: Result | null): readonly string[] {
  const found = lensQuantities(lens, result).map((q) => eachOf(q, result?.tables[q.table]))
  return (found.find((parts) => parts.length) ?? []).map(([name]) => name).filter((name) => name !== 'N')
}

const KILO = 1000

function strandHues({ lens, result, bands, palette }: Shown): (id: string) => string {
  const painted = lensQuantities(lens, result).flatMap((q) => {
    const table = result?.tables[q.table]
    const parts = eachOf(q, table).filter(([name]) => name !== 'N')
    if (!table || !parts.length) return []
    const unit = table.columns.find((c) => c.name === parts[0]![1])?.unit
    // Losses of a phase are in kW, those of all in MW.
    const factor = unit === q.unit ? 1 : 1 / KILO
    const hue = hueOf(palette, q, bands, most(values(table, q.name) as Numbers))
    return [{ table, parts, hue: (v: number) => hue(v * factor) }]
  })
  if (!painted.length) return () => ''
  return (id) => {
    const found = painted.find((p) => p.table.row.has(id))
    if (!found) return ''
    const { table, parts, hue } = found
    return parts
      .flatMap(([name, column]) => {
        const value = figure(table, id, column)
        return value === undefined ? [] : [`${name}${hue(value)}`]
      })
      .join('|')
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
  const quiet = () => palette.quiet
  const ink = () => palette.ink
  const of = (q: Declared) => {
    const table = result?.tables[q.table]
    const hue = hueOf(palette, q, bands, bandOf(q, bands).length ? 1 : most(values(table, q.name) as Numbers))
    const windings = q.table === 'branches' ? result?.tables.windings : undefined
    const otherwise = q.table === 'buses' ? palette.ink : palette.quiet
    return byFigure(otherwise, (id) => figure(table, id, q.name) ?? figure(windings, id, q.name), hue)
  }
  const painted = lensQuantities(lens, result)
  if (painted.length) {
    const [bus, branch] = ['buses', 'branches'].map((t) => painted.find((q) => q.table === t))
    return { bus: bus ? of(bus) : ink, branch: branch ? of(branch) : quiet }
  }
  switch (lens) {
    case 'flow':
      return { bus: ink, branch: () => palette.accent }
    case 'difference':
      return differenceHues(shown, pinned ?? null)
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
        (study?.grows ? upTo : around)(palette, study?.most ?? 1),
      )
      return { bus: hue, branch: hue }
    }
    default:
      return { bus: ink, branch: quiet }
  }
}

const byFigure =
  (otherwise: string, read: (id: string) => number | undefined, hue: (v: number) => string) =>
  (id: string) => {
    const value = read(id)
    return value === undefined ? otherwise : hue(value)
  }

function differenceHues({ palette, result, bands }: Shown, pinned: Result | null): Hues {
  const [bus, branch] = [standing(result, 'voltage'), standing(result, 'loading')]
  const change = (q: Declared | undefined) => (id: string) => {
    const now = q && figure(result?.tables[q.table], id, q.name)
    const then = q && figure(pinned?.tables[q.table], id, q.name)
    return now === undefined || then === undefined ? undefined : now - then
  }
  return {
    bus: byFigure(palette.quiet, change(bus), diverging(palette, differenceBand(bands))),
    // Half the span of the voltage scale stands for 50 % of loading.
    branch: byFigure(palette.quiet, change(branch), around(palette, 50)),
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
