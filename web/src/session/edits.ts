/** What a bench asks of the service beyond single fields: growing, joining, pasting, removing, laying out. */
import { type Change, client, messageOf } from '../api/client'
import type { paths } from '../api/schema'
import type { Item } from '../model/items'
import { change, known, path, send, sendOrTell, updateOrTell } from './queue'
import { notify, select, selectMany, useBench } from './store'

const { getState, setState } = useBench

/** What was typical is right: it counts as entered from now on. */
export function confirm(item: Item, fields: readonly string[]) {
  const values = Object.fromEntries(fields.map((f) => [f, item[f]]))
  const words = fields.length === 1 ? fields[0]?.replaceAll('_', ' ') : `${fields.length} values`
  return updateOrTell(item, values, `Confirm ${words} of ${item.name}`)
}

export type GrowOptions = NonNullable<
  paths['/api/projects/{project_id}/grow']['post']['requestBody']['content']['application/json']['options']
>

export async function grow(at: string, what: string, to?: string, options: GrowOptions = {}) {
  const done = await sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/grow', {
      params: { path: path() },
      body: { base_revision, at, what, to: to ?? null, options },
    }),
  )
  const { selected } = getState()
  if (done && selected) select(selected, { reveal: true })
  return done
}

export const join = (gone: string, kept: string) =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/join', {
      params: { path: path() },
      body: { base_revision, gone, kept },
    }),
  )

export const swap = (ids: string[], step: number) =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/swap', {
      params: { path: path(), query: known() },
      body: { base_revision, ids, step },
    }),
  )

/** Paste copied items; what was pasted is selected afterwards. */
export async function paste(items: readonly Item[], onto: string | null, times: number) {
  let made: string[] = []
  let left: string[] = []
  const done = await sendOrTell(async (base_revision) => {
    const answered = await client.POST('/api/projects/{project_id}/paste', {
      params: { path: path() },
      body: { base_revision, items: items.map((i) => ({ ...i })), onto, times },
    })
    made = answered.data?.pasted ?? []
    left = answered.data?.left_out ?? []
    return answered
  })
  if (!done) return
  selectMany(made)
  const { selected } = getState()
  if (selected) setState((s) => ({ reveal: s.reveal + 1 }))
  const left_out = left.length ? ` ${left.length} that lead elsewhere were left out.` : ''
  notify('news', `${made.length} ${made.length === 1 ? 'element' : 'elements'} pasted.${left_out}`)
}

/** Set fields of several items in one step; says what was refused and changes nothing then. */
export async function updateMany(
  items: readonly { id: string; values: Record<string, unknown> }[],
  label: string,
) {
  const changes = items.map(({ id, values }): Change => ({ op: 'update', id, values, origins: {} }))
  try {
    return await change(label, changes)
  } catch (error) {
    notify('problem', messageOf(error))
    return false
  }
}

/** Apply changes that somebody offered; says what was refused. */
export async function changeOrTell(label: string, changes: Change[]) {
  try {
    return await change(label, changes)
  } catch (error) {
    notify('problem', messageOf(error))
    return false
  }
}

export function throwSwitch(id: string) {
  const item = getState().items.get(id)
  if (item?.kind !== 'switch') return
  const closed = item.closed !== false
  void updateOrTell(item, { closed: !closed }, `${closed ? 'Open' : 'Close'} ${item.name}`)
}

export async function attach(element: string, file: File) {
  return sendOrTell(async (base_revision) => {
    const query = new URLSearchParams({ element, file_name: file.name, base_revision: String(base_revision) })
    const response = await fetch(`/api/projects/${getState().project?.id}/attachments?${query}`, {
      method: 'POST',
      body: file,
      headers: { 'content-type': 'application/octet-stream' },
    })
    const body = await response.json()
    return response.ok ? { data: body, response } : { error: body, response }
  })
}

/** Rows pasted from a spreadsheet: all of them or none; throws the refusal, which names every bad row. */
export const pasteTable = (kind: string, text: string) =>
  send((base_revision) =>
    client.POST('/api/projects/{project_id}/table', {
      params: { path: path() },
      body: { base_revision, kind, text },
    }),
  )

export async function putBackdrop(file: File) {
  return sendOrTell(async (base_revision) => {
    const query = new URLSearchParams({ file_name: file.name, base_revision: String(base_revision) })
    const response = await fetch(`/api/projects/${getState().project?.id}/backdrop?${query}`, {
      method: 'PUT',
      body: file,
      headers: { 'content-type': 'application/octet-stream' },
    })
    const body = await response.json()
    return response.ok ? { data: body, response } : { error: body, response }
  })
}

export async function importTypes(file: File) {
  return sendOrTell(async (base_revision) => {
    const query = new URLSearchParams({ file_name: file.name, base_revision: String(base_revision) })
    const response = await fetch(`/api/projects/${getState().project?.id}/types/import?${query}`, {
      method: 'POST',
      body: file,
      headers: { 'content-type': 'application/octet-stream' },
    })
    const body = await response.json()
    return response.ok ? { data: body, response } : { error: body, response }
  })
}

export async function remove(ids: string[]) {
  const { items } = getState()
  const name = items.get(ids[0] ?? '')?.name
  const done = await sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/remove', {
      params: { path: path() },
      body: { base_revision, ids },
    }),
  )
  if (done) notify('news', `${name} removed. Undo brings it back.`)
}

export const tidy = (ids?: string[]) =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/tidy', {
      params: { path: path() },
      body: { base_revision, ids: ids ?? null },
    }),
  )

export const placeAs = (what: 'map' | 'schematic' | 'lengths', ids?: string[], anew = false) =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/place', {
      params: { path: path() },
      body: { base_revision, what, anew, ids: ids ?? null },
    }),
  )
