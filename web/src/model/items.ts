export interface Item {
  readonly kind: string
  readonly id: string
  readonly name: string
  readonly origins?: Readonly<Record<string, string>>
  readonly [field: string]: unknown
}

export type Items = ReadonlyMap<string, Item>

const byKind = new WeakMap<Items, Map<string, readonly Item[]>>()

/** All of one kind, in order; looked through once for each state of the items. */
export function ofKind(items: Items, kind: string): readonly Item[] {
  const known = byKind.get(items) ?? new Map<string, readonly Item[]>()
  byKind.set(items, known)
  const found = known.get(kind) ?? [...items.values()].filter((i) => i.kind === kind)
  known.set(kind, found)
  return found
}

export const text = (item: Item | undefined, field: string): string => {
  const value = item?.[field]
  return typeof value === 'string' ? value : ''
}

export const number = (item: Item | undefined, field: string): number | undefined => {
  const value = item?.[field]
  return typeof value === 'number' ? value : undefined
}

/** The buses of an element, in the order in which its kind declares them. */
export function busesOf(item: Item): string[] {
  return Object.keys(item)
    .filter((field) => field === 'bus' || field.endsWith('_bus'))
    .map((field) => text(item, field))
    .filter(Boolean)
}

const STATES: Readonly<Record<string, readonly [string, boolean]>> = {
  out: ['in_service', false],
  in: ['in_service', true],
  open: ['closed', false],
  closed: ['closed', true],
}

/** A condition under which some elements are out as well. */
export function withLoss(
  condition: Item | undefined,
  lost: readonly string[] | undefined,
  closed: readonly string[] = [],
): Item | undefined {
  if (!condition || !lost?.length) return condition
  const states = {
    ...((condition.states ?? {}) as object),
    ...Object.fromEntries(closed.map((i) => [i, 'closed'])),
    ...Object.fromEntries(lost.map((i) => [i, 'out'])),
  }
  return { ...condition, states } as Item
}

/** The items as they stand under a condition: some may be out of service, open or closed there. */
export function underCondition(items: Items, condition: Item | undefined): Items {
  const states = Object.entries((condition?.states ?? {}) as Readonly<Record<string, string>>)
  const values = Object.entries((condition?.values ?? {}) as Readonly<Record<string, Partial<Item>>>)
  if (!states.length && !values.length) return items
  const next = new Map(items)
  for (const [id, fields] of values) {
    const item = items.get(id)
    if (item) next.set(id, { ...item, ...fields } as Item)
  }
  for (const [id, state] of states) {
    const item = next.get(id)
    const [field, value] = STATES[state] ?? []
    if (item && field) next.set(id, { ...item, [field]: value })
  }
  return next
}

/** Fields other than buses that say how a network is wired, and what its stations and feeders are called. */
const WIRING = ['closed', 'in_service', 'substation', 'nominal_kv', 'name', 'condition', 'states', 'values']

/** Whether a change of an item can lead to other stations or feeders. */
export function rewires(before: Item | undefined, after: Item): boolean {
  if (!before) return true
  if (
    WIRING.some((f) => before[f] !== after[f] && !(typeof after[f] === 'object' && same(before[f], after[f])))
  )
    return true
  return !sameBuses(before, after)
}

function sameBuses(before: Item, after: Item): boolean {
  const [a, b] = [busesOf(before), busesOf(after)]
  return a.length === b.length && a.every((bus, n) => bus === b[n])
}

/** Fields that the sheet draws, beside buses and what an item is. */
const DRAWN = [
  'name',
  'x',
  'y',
  'bar',
  'upright',
  'nominal_kv',
  'closed',
  'device',
  'flipped',
  'symbol_size',
  'label_dx',
  'label_dy',
  'longitude',
  'latitude',
  'route',
  'area',
]

/** Whether two sets of items look the same on the sheet, results apart. */
export function drawnAlike(before: Items, after: Items): boolean {
  if (before === after) return true
  if (before.size !== after.size) return false
  const old = before.values()
  for (const item of after.values()) {
    const was = old.next().value
    if (was === item) continue
    if (!was || was.id !== item.id || was.kind !== item.kind) return false
    if (DRAWN.some((f) => was[f] !== item[f] && !(f === 'route' && same(was[f], item[f])))) return false
    if (!sameBuses(was, item)) return false
  }
  return true
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b)

/** The items after a change: altered ones in place, new ones at the end, or in the order given. */
export function applied(
  items: Items,
  changed: readonly Item[],
  removed: readonly string[],
  order: readonly string[] | null | undefined,
): Items {
  const next = new Map(items)
  for (const item of changed) next.set(item.id, item)
  for (const id of removed) next.delete(id)
  if (!order) return next
  return new Map(order.flatMap((id) => (next.has(id) ? [[id, next.get(id)!] as const] : [])))
}

/** Whether an item is of the kind that is referred to; a branch is whatever has two ends, a bank what is switched in steps. */
export const fits = (item: Item, ref: string | null | undefined) =>
  ref === 'branch'
    ? busesOf(item).length === 2
    : ref === 'element'
      ? item.kind === 'bus' || busesOf(item).length > 0
      : ref === 'bank'
        ? item.kind === 'shunt' || item.kind === 'filter'
        : item.kind === ref
