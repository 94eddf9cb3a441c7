/** Making items that equipment refers to: a geometry for a line, an area for a bus, a relay for a switch. */
import type { Change, FieldSpec } from '../api/client'
import { fits, type Item } from '../model/items'
import { changeOrTell } from './edits'
import { selection, useBench } from './store'

/** A name that nothing has yet. */
export function freeName(stem: string): string {
  const { items } = useBench.getState()
  for (let n = 1; ; n++) {
    const name = n === 1 ? stem : `${stem} (${n})`
    if (!items.has(name)) return name
  }
}

const START: Readonly<Record<string, (item: Item) => Record<string, unknown>>> = {
  line_geometry: (line) =>
    line.construction === 'cable'
      ? {
          construction: 'cable',
          r20_ohm_per_km: 0.125,
          gmr_mm: 7.1,
          diameter_mm: 18.4,
          rating_a: 370,
          origins: {
            r20_ohm_per_km: 'typical',
            gmr_mm: 'typical',
            diameter_mm: 'typical',
            rating_a: 'typical',
          },
        }
      : { type: 'Al/St 150', origins: { type: 'typical' } },
  line_matrix: () => ({
    order: 'ABCN',
    r_rows: '0.32; 0.05 0.32; 0.05 0.05 0.32; 0.05 0.05 0.05 0.32',
    x_rows: '0.75; 0.67 0.75; 0.65 0.67 0.75; 0.67 0.65 0.67 0.75',
    origins: { r_rows: 'typical', x_rows: 'typical' },
  }),
  area: () => ({}),
  substation: () => ({}),
}

const WORDS: Readonly<Record<string, string>> = {
  line_geometry: 'Geometry',
  line_matrix: 'Matrix',
  area: 'Area',
}

/** Make an item that a field shall refer to, and let it refer to it: one step. Returns its id. */
export async function createFor(item: Item, field: string, kind: string): Promise<string | null> {
  const words = WORDS[kind] ?? 'Substation'
  const id = freeName(kind.startsWith('line_') ? `${words} of ${item.name}` : words)
  const changes: Change[] = [
    { op: 'add', item: { kind, id, name: id, ...START[kind]?.(item) } },
    { op: 'update', id: item.id, values: { [field]: id }, origins: {} },
  ]
  return (await changeOrTell(`New ${words.toLowerCase()} for ${item.name}`, changes)) ? id : null
}

/** With what some of those that stand by themselves begin: figures that are usual, to be written over. */
const BEGINS: Readonly<Record<string, Record<string, unknown>>> = {
  harmonic_levels: { above_kv: 1, up_to_kv: 35, orders: '5 5; 7 4; 11 3; 13 2.5', total_pct: 6.5 },
  current_limits: {
    up_to_kv: 69,
    ratio_from: 20,
    ratio_below: 50,
    orders: '5 7; 7 7; 11 3.5; 13 3.5',
    total_pct: 8,
  },
}

/** An own type that is worth a command of its own. */
export const SPECTRUM = {
  kind: 'own_type',
  label: 'Harmonic spectrum',
  called: 'Own spectrum',
  start: { family: 'spectrum', orders: '5 20; 7 14; 11 9; 13 7' },
}

interface Made {
  readonly kind: string
  readonly label: string
  /** What the first one is called, where that is another word. */
  readonly called?: string
  readonly fields?: readonly FieldSpec[]
  readonly start?: Record<string, unknown>
}

/** Make what stands by itself and is entered on its card; a list of elements begins with what is selected. Returns its id. */
export async function createAlone(kind: Made): Promise<string | null> {
  const { items } = useBench.getState()
  const id = freeName(kind.called ?? kind.label)
  const listed = (kind.fields ?? []).flatMap((f) => {
    const ids = f.picks ? selection().filter((s) => items.has(s) && fits(items.get(s)!, f.picks)) : []
    return ids.length ? [[f.name, ids] as const] : []
  })
  const start = { ...BEGINS[kind.kind], ...kind.start, ...Object.fromEntries(listed) }
  const done = await changeOrTell(`New ${kind.label.toLowerCase()}`, [
    { op: 'add', item: { kind: kind.kind, id, name: id, ...start } } as Change,
  ])
  return done ? id : null
}

/** A current transformer or a relay at a switch. */
export async function createAt(item: Item, kind: 'current_transformer' | 'relay'): Promise<string | null> {
  const { items } = useBench.getState()
  const word = kind === 'relay' ? 'Relay' : 'CT'
  const id = freeName(`${word} ${item.name}`)
  const meter = [...items.values()].find((i) => i.kind === 'current_transformer' && i.at === item.id)
  const rating = typeof item.rating_a === 'number' ? item.rating_a : 400
  const fields =
    kind === 'relay'
      ? { trips: item.id, measures: meter?.id, pickup_a: rating, origins: { pickup_a: 'typical' } }
      : { at: item.id, primary_a: rating, origins: { primary_a: 'typical' } }
  const made = await changeOrTell(`Add ${word.toLowerCase()} at ${item.name}`, [
    { op: 'add', item: { kind, id, name: id, ...fields } },
  ])
  return made ? id : null
}
