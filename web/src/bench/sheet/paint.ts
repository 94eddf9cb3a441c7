/** What the lens and the result make of every element: colour, liveness, finding. */
import type { Finding } from '../../api/client'
import type { Palette } from '../../design/tokens'
import { busesOf, figure, type Items, type Result, values } from '../model'
import type { Lens } from '../store'
import { lensColours } from './lens'

export interface Paint {
  readonly bus: (id: string) => string
  readonly branch: (id: string) => string
  readonly live: (id: string) => boolean
  /** Forward, backward or no flow of active power, from the from bus to the to bus. */
  readonly flow: (id: string) => -1 | 0 | 1
  readonly finding: (id: string) => Finding | undefined
}

/** Which feeder each bus belongs to, as a number for its colour. */
export type FeederOf = ReadonlyMap<string, number>

export function makePaint(
  palette: Palette,
  lens: Lens,
  items: Items,
  result: Result | null,
  feeders: FeederOf = new Map(),
  pinned: Result | null = null,
): Paint {
  const colours = lensColours(palette)
  const buses = result?.tables.buses
  const branches = result?.tables.branches
  const injections = result?.tables.injections
  const volts = values(buses, 'voltage_pu') as readonly (number | null)[]
  const loading = values(branches, 'loading_pct') as readonly (number | null)[]
  const power = values(branches, 'from_active_power_mw') as readonly (number | null)[]
  const states = [buses, branches, injections, result?.tables.windings].map((t) => ({
    row: t?.row,
    state: values(t, 'state') as readonly string[],
  }))
  const losses = values(branches, 'active_loss_mw') as readonly (number | null)[]
  const worstLoss = lens === 'losses' ? losses.reduce<number>((m, v) => Math.max(m, v ?? 0), 1e-9) : 1
  const worst = new Map<string, Finding>()
  for (const f of result?.findings ?? []) if (!worst.has(f.element)) worst.set(f.element, f)
  const withVoltage = lens === 'both' || lens === 'voltage'
  const withLoading = lens === 'both' || lens === 'loading'
  return {
    bus: (id) => {
      if (lens === 'feeder') return feederColour(palette, feeders.get(id))
      if (lens === 'difference') {
        const now = figure(buses, id, 'voltage_pu')
        const then = figure(pinned?.tables.buses, id, 'voltage_pu')
        return now === undefined || then === undefined ? palette.quiet : colours.difference(now - then)
      }
      const v = volts[buses?.row.get(id) ?? -1]
      return withVoltage && typeof v === 'number' ? colours.voltage(v) : palette.ink
    },
    branch: (id) => {
      if (lens === 'feeder') return feederColour(palette, feederOfBranch(items, feeders, id))
      if (lens === 'losses') {
        const loss = figure(branches, id, 'active_loss_mw')
        return loss === undefined ? palette.quiet : colours.losses(loss, worstLoss)
      }
      const l = loading[branches?.row.get(id) ?? -1] ?? figure(result?.tables.windings, id, 'loading_pct')
      return withLoading && typeof l === 'number' ? colours.loading(l) : palette.quiet
    },
    live: (id) => {
      for (const { row, state } of states) {
        const at = row?.get(id)
        if (at !== undefined) return state[at] === 'live'
      }
      return !result || !items.has(id)
    },
    flow: (id) => {
      const p = power[branches?.row.get(id) ?? -1]
      return typeof p !== 'number' || Math.abs(p) < 1e-6 ? 0 : p > 0 ? 1 : -1
    },
    finding: (id) => worst.get(id),
  }
}

const feederColour = (palette: Palette, n: number | undefined) =>
  n === undefined ? palette.quiet : (palette.feeders[n % palette.feeders.length] ?? palette.quiet)

/** A branch belongs to the feeder of its far bus: the first section is already part of what it starts. */
function feederOfBranch(items: Items, feeders: FeederOf, id: string): number | undefined {
  const item = items.get(id)
  const found = item ? busesOf(item).map((b) => feeders.get(b)) : []
  return found.length ? (found.at(-1) ?? found[0]) : undefined
}
