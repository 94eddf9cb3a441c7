/** The changes of a scheme as plain data: which of them count. */
import type { Change } from '../api/client'

export interface Entry {
  readonly change: Change
  readonly label: string
  readonly on: boolean
  readonly gain: string
  /** The element it moves with, where several changes make sense only together. */
  readonly group: string
}

export const targetOf = (change: Change) => (change.op === 'add' ? String(change.item.id) : change.id)

/** The changes without those that set a field of an element; `*` stands for every field. */
export const leftOut = (entries: readonly Entry[], element: string, field: string): Entry[] =>
  entries.map((e) => {
    const sets = field === '*' || e.change.op !== 'update' || field in e.change.values
    return e.on && sets && targetOf(e.change) === element ? { ...e, on: false } : e
  })

/** Of the changes that know their own gain the largest ones on, the others off; what moves with one follows it. */
export function keptBest(entries: readonly Entry[], count: number): Entry[] {
  const heads = entries.flatMap((e, i) => (e.gain ? [{ i, gain: Number.parseFloat(e.gain) || 0 }] : []))
  const best = heads.sort((a, b) => b.gain - a.gain).slice(0, Math.max(0, count))
  const kept = new Set(best.map((h) => h.i))
  const groups = new Set(best.map((h) => entries[h.i]!.group).filter(Boolean))
  return entries.map((e, i) =>
    e.gain || e.group ? { ...e, on: kept.has(i) || (!!e.group && groups.has(e.group)) } : e,
  )
}
