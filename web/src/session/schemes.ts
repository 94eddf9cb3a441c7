/** What can be done with schemes: each is one change of the network's items, with its undo. */
import { type Change, client } from '../api/client'
import type { Item, Items } from '../model/items'
import { changeOrTell } from './edits'
import { type Entry, keptBest, leftOut } from './entries'
import { sendOrTell, updateOrTell } from './queue'
import { useBench } from './store'

export { type Entry, targetOf } from './entries'

export const entriesOf = (scheme: Item): readonly Entry[] => (scheme.changes ?? []) as readonly Entry[]

export const schemesOf = (items: Items): Item[] =>
  [...items.values()]
    .filter((i) => i.kind === 'scheme')
    .sort((a, b) => Number(a.rank ?? 1) - Number(b.rank ?? 1))

export const recordingOf = (items: Items): string | null => {
  const found = items.get('settings')?.recording
  return typeof found === 'string' ? found : null
}

function freeName(stem: string): string {
  const { items } = useBench.getState()
  for (let n = 1; ; n++) {
    const name = n === 1 ? stem : `${stem} ${n}`
    if (!items.has(name)) return name
  }
}

/** A new scheme on top of the others; switched on when it is handed over by a study. */
export async function createScheme(
  stem: string,
  values: Record<string, unknown> = {},
): Promise<string | null> {
  const id = freeName(stem)
  const { items } = useBench.getState()
  const rank = Math.max(0, ...schemesOf(items).map((s) => Number(s.rank ?? 1))) + 1
  const item = { kind: 'scheme', id, name: id, rank, ...values }
  const done = await changeOrTell(`Make scheme ${id}`, [{ op: 'add', item }])
  return done ? id : null
}

export const setScheme = (scheme: Item, values: Record<string, unknown>, label: string) =>
  updateOrTell(scheme, values, label)

export const switchScheme = (scheme: Item) =>
  setScheme(
    scheme,
    { active: scheme.active !== true },
    `Switch ${scheme.name} ${scheme.active === true ? 'off' : 'on'}`,
  )

/** Edits go into this scheme from now on; it is switched on so that they are seen. */
export async function record(scheme: Item | null) {
  const { items } = useBench.getState()
  const settings = items.get('settings')
  if (!settings) return
  const changes: Change[] = [
    { op: 'update', id: settings.id, values: { recording: scheme?.id ?? null }, origins: {} },
  ]
  if (scheme && scheme.active !== true)
    changes.unshift({ op: 'update', id: scheme.id, values: { active: true }, origins: {} })
  await changeOrTell(scheme ? `Record into ${scheme.name}` : 'Edit the present network', changes)
}

/** One place up or down in the order in which schemes are laid on each other. */
export async function reorder(scheme: Item, by: 1 | -1) {
  const list = schemesOf(useBench.getState().items)
  const at = list.findIndex((s) => s.id === scheme.id)
  const to = at + by
  if (to < 0 || to >= list.length) return
  const moved = list.filter((s) => s.id !== scheme.id)
  moved.splice(to, 0, scheme)
  const changes = moved.flatMap((s, i): Change[] =>
    Number(s.rank) === i + 1 ? [] : [{ op: 'update', id: s.id, values: { rank: i + 1 }, origins: {} }],
  )
  await changeOrTell(`Move ${scheme.name} ${by > 0 ? 'up' : 'down'} the stack`, changes)
}

export const duplicateScheme = (scheme: Item) => {
  const { id: _, name: __, origins: ___, rank: ____, kind: _____, ...values } = scheme
  return createScheme(`${scheme.name} copy`, { ...values, active: false, state: 'idea' })
}

export async function removeScheme(scheme: Item) {
  const { items } = useBench.getState()
  const changes: Change[] = [{ op: 'remove', id: scheme.id }]
  if (recordingOf(items) === scheme.id)
    changes.unshift({ op: 'update', id: 'settings', values: { recording: null }, origins: {} })
  await changeOrTell(`Remove scheme ${scheme.name}`, changes)
}

export const setEntries = (scheme: Item, entries: readonly Entry[], label: string) =>
  setScheme(scheme, { changes: entries }, label)

/** Settle a clash: what a scheme sets of an element's field is left out there, and the other one counts. */
export const leaveOut = (scheme: Item, element: string, field: string) =>
  setEntries(scheme, leftOut(entriesOf(scheme), element, field), `Leave ${element} out of ${scheme.name}`)

/** Only the changes with the largest gains of their own stay on, with what moves together. */
export const keepBest = (scheme: Item, count: number) =>
  setEntries(scheme, keptBest(entriesOf(scheme), count), `Keep the best ${count} of ${scheme.name}`)

/** Take changes out of one scheme and put them at the end of another. */
export async function moveEntries(from: Item, rows: readonly number[], to: Item) {
  const mine = entriesOf(from)
  const moved = rows.map((r) => mine[r]!)
  const rest = mine.filter((_, i) => !rows.includes(i))
  await changeOrTell(`Move ${moved.length} changes from ${from.name} to ${to.name}`, [
    { op: 'update', id: from.id, values: { changes: rest }, origins: {} },
    { op: 'update', id: to.id, values: { changes: [...entriesOf(to), ...moved] }, origins: {} },
  ])
}

export const mergeScheme = (scheme: Item) =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/merge', {
      params: { path: { project_id: useBench.getState().project?.id ?? '' } },
      body: { base_revision, scheme: scheme.id },
    }),
  )

/** Connect a load, a plant or a lateral to other phases. */
export const toPhases = (ident: string, phases: string) =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/phases', {
      params: { path: { project_id: useBench.getState().project?.id ?? '' } },
      body: { base_revision, ident, phases },
    }),
  )

/** Connect it to the next phases it can take: after the last choice comes the first. */
export async function toNextPhase(ident: string) {
  const { project } = useBench.getState()
  const { data } = await client.GET('/api/projects/{project_id}/phases/{ident}', {
    params: { path: { project_id: project?.id ?? '', ident } },
  })
  if (!data?.unit || data.choices.length < 2) return
  const choices = [...data.choices].sort()
  await toPhases(data.unit, choices[(choices.indexOf(data.now) + 1) % choices.length]!)
}
