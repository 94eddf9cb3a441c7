/** What the bench asks of the service. One change at a time; answers older than what is shown are dropped. */
import { answer, type Change, type Changed, client, type Live, messageOf, ServiceError } from '../api/client'
import type { paths } from '../api/schema'
import { applied, complete, type Item, type Result, rewires } from './model'
import { initial, notify, resultLabel, select, selectMany, shownResult, useBench } from './store'

const { getState, setState } = useBench
const path = () => ({ project_id: getState().project?.id ?? '' })

/** The rows whose fixed columns are here already: the service leaves them out. */
const known = () => {
  const { failed, raw } = getState()
  return { rows: failed ? undefined : raw?.rows }
}

let events: EventSource | null = null
/** The items as the service had them last, without what is shown ahead of it. */
let acknowledged = new Map<string, Item>()
/** Changes are sent one after the other, each on the revision that the one before led to. */
let queue: Promise<unknown> = Promise.resolve()
/** How many are on their way: the first of them leaves at once. */
let outstanding = 0

export async function open(projectId: string) {
  close()
  const opened = await answer(
    client.GET('/api/projects/{project_id}', { params: { path: { project_id: projectId } } }),
  )
  const items = new Map((opened.items as Item[]).map((i) => [i.id, i]))
  acknowledged = new Map(items)
  const { wiring } = getState()
  const { shelf, shelfOpen, shelfTall, cardOpen, lens, grid, clip } = getState()
  setState({
    ...initial,
    shelf,
    shelfOpen,
    shelfTall,
    cardOpen,
    lens,
    grid,
    clip,
    arrangement: getState().arrangement,
    project: opened.project,
    revision: opened.project.revision,
    damage: opened.damage ?? null,
    wiring: wiring + 1,
    items,
    undoLabel: opened.history.undo ?? null,
    redoLabel: opened.history.redo ?? null,
  })
  show(opened.live)
  listen(projectId)
}

/** Let a damaged project go on from what can be read of it. */
export async function repair() {
  const id = getState().project?.id
  if (!id) return
  try {
    await answer(client.POST('/api/projects/{project_id}/repair', { params: { path: { project_id: id } } }))
    await open(id)
    notify('news', 'The project goes on from what could be read of it.')
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

export function close() {
  events?.close()
  events = null
  setState({ project: null, result: null, raw: null, failed: null, selected: null })
}

/** Take up a result: a failed one leaves the last good one in place, marked out of date. */
function show(live: Live) {
  const last = getState().raw
  const result = complete(live, last)
  const ok = result.account.ending === 'converged' || result.account.ending === 'nothing_to_solve'
  setState(ok ? { ...shownResult(result), failed: null } : { failed: result })
}

function listen(projectId: string) {
  events = new EventSource(`/api/projects/${projectId}/events`)
  events.addEventListener('revision', (event) => {
    const revision = Number((event as MessageEvent<string>).data)
    // Our own changes come back here too: wait for their answers before asking what is new.
    queue = queue.then(() => (revision > getState().revision ? catchUp() : undefined))
  })
}

async function catchUp() {
  const { revision } = getState()
  try {
    take(
      await answer(
        client.GET('/api/projects/{project_id}/since/{revision}', {
          params: { path: { ...path(), revision }, query: known() },
        }),
      ),
    )
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

function take(done: Changed) {
  const state = getState()
  if (done.revision < state.revision) return
  const changed = done.changed as Item[]
  const items = applied(state.items, changed, done.removed, done.order)
  // Against what was acknowledged last: what is shown may be ahead of it.
  const rewired = done.removed.length > 0 || changed.some((i) => rewires(acknowledged.get(i.id), i))
  for (const i of changed) acknowledged.set(i.id, i)
  for (const id of done.removed) acknowledged.delete(id)
  const selected = state.selected && items.has(state.selected) ? state.selected : null
  const chosen = new Set([...state.chosen].filter((id) => items.has(id)))
  setState({
    items,
    revision: done.revision,
    wiring: state.wiring + (rewired ? 1 : 0),
    undoLabel: done.history.undo ?? null,
    redoLabel: done.history.redo ?? null,
    selected: done.select ?? selected,
    chosen: done.select || chosen.size < 2 ? new Set() : chosen,
  })
  for (const changes of pending) optimistic(changes)
  show(done.live)
}

type Send = (baseRevision: number) => Promise<{ data?: unknown; error?: unknown; response: Response }>

const READ_ONLY =
  'This is a picture of an earlier revision. Go back to the present network to change something.'

function send(call: Send, answered?: () => void): Promise<boolean> {
  if (getState().looking) return Promise.reject(new Error(READ_ONLY))
  let begun = false
  const run = async () => {
    try {
      // The request leaves before anything is drawn anew.
      const sent = call(getState().revision)
      setState((s) => ({ busy: s.busy + 1 }))
      begun = true
      const done = (await answer(sent)) as Changed
      answered?.()
      take(done)
      return true
    } finally {
      outstanding--
      if (begun) setState((s) => ({ busy: s.busy - 1 }))
    }
  }
  const job = outstanding++ ? queue.then(run) : run()
  queue = job.catch(() => undefined)
  return job
}

/** Send and say what went wrong; the network is then as the service has it. */
export async function sendOrTell(call: Send): Promise<boolean> {
  try {
    return await send(call)
  } catch (error) {
    notify('problem', messageOf(error))
    if (error instanceof ServiceError && error.problem.status === 409) await catchUp()
    return false
  }
}

/** Apply changes; throws the service's refusal, so that a form can show it where it belongs. */
export function change(label: string, changes: Change[]): Promise<boolean> {
  if (getState().looking) return Promise.reject(new Error(READ_ONLY))
  pending.push(changes)
  const done = () => {
    const at = pending.indexOf(changes)
    if (at >= 0) pending.splice(at, 1)
  }
  const key = crypto.randomUUID()
  const sent = send(
    (base_revision) =>
      stubborn(() =>
        client.POST('/api/projects/{project_id}/changes', {
          params: { path: path(), query: known() },
          body: { base_revision, label, changes, key },
        }),
      ),
    done,
  )
  // Shown once the request has left: in large networks drawing takes as long as the answer.
  const before = optimistic(changes)
  return sent.catch((error: unknown) => {
    done()
    setState((s) => ({ items: applied(s.items, before, [], undefined) }))
    throw error
  })
}

/** Once more where the connection broke: under its key an edit is done once, however often it is sent. */
async function stubborn<T>(call: () => Promise<T>): Promise<T> {
  try {
    return await call()
  } catch (error) {
    if (!(error instanceof TypeError)) throw error
    await new Promise((done) => setTimeout(done, 700))
    return call()
  }
}

/** Changes that are shown but not answered yet: an answer to an earlier one must not take them off the screen. */
const pending: Change[][] = []

/** Show updated fields at once; returns the items as they were. */
function optimistic(changes: Change[]): Item[] {
  const before: Item[] = []
  const after: Item[] = []
  const { items } = getState()
  for (const c of changes) {
    const item = c.op === 'update' ? items.get(c.id) : undefined
    if (!item || c.op !== 'update') continue
    before.push(item)
    after.push({ ...item, ...c.values })
  }
  if (after.length) setState({ items: applied(items, after, [], undefined) })
  return before
}

export const update = (item: Item, values: Record<string, unknown>, label: string) =>
  change(label, [{ op: 'update', id: item.id, values, origins: {} }])

export async function updateOrTell(item: Item, values: Record<string, unknown>, label: string) {
  try {
    await update(item, values, label)
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

/** What was typical is right: it counts as entered from now on. */
export function confirm(item: Item, fields: readonly string[]) {
  const values = Object.fromEntries(fields.map((f) => [f, item[f]]))
  const words = fields.length === 1 ? fields[0]?.replaceAll('_', ' ') : `${fields.length} values`
  return updateOrTell(item, values, `Confirm ${words} of ${item.name}`)
}

export const undo = () =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/undo', {
      params: { path: path(), query: { ...known(), base_revision } },
    }),
  )
export const redo = () =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/redo', {
      params: { path: path(), query: { ...known(), base_revision } },
    }),
  )

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

// Trying factors while a slider moves: at most one request under way, the newest value wins.

let underWay = false
let waiting = false

export function tryFactors(factors: { demand?: number; generation?: number }) {
  if (getState().looking) return
  setState((s) => ({ trying: { ...s.trying, ...factors } }))
  if (underWay) waiting = true
  else void preview()
}

async function preview() {
  underWay = true
  do {
    waiting = false
    const { trying, revision } = getState()
    if (!trying) break
    try {
      const live = await answer(
        client.POST('/api/projects/{project_id}/preview', {
          params: { path: path(), query: known() },
          body: { demand_factor: trying.demand, generation_factor: trying.generation },
        }),
      )
      if (getState().trying && getState().revision === revision) show(live)
    } catch (error) {
      notify('problem', messageOf(error))
      waiting = false
    }
  } while (waiting)
  underWay = false
}

/** Keep the factors that were tried: one change, one undo step. */
export async function keepFactors(condition: Item, factors: { demand?: number; generation?: number }) {
  setState({ trying: null })
  const values: Record<string, number> = {}
  if (factors.demand !== undefined) values.demand_factor = factors.demand
  if (factors.generation !== undefined) values.generation_factor = factors.generation
  const words = Object.entries(values).map(
    ([k, v]) => `${k.replace('_factor', '')} to ${Math.round(v * 100)} %`,
  )
  await updateOrTell(condition, values, `Set ${words.join(', ')}`)
}

// Pinning, runs, and looking at earlier ones

/** Keep the present result to compare later ones with, or let it go. The service keeps it as a run. */
export function pin() {
  const { pinned, result, raw } = getState()
  if (pinned) return setState((s) => ({ pinned: null, lens: s.lens === 'difference' ? 'both' : s.lens }))
  if (!result || !raw) return
  const label = resultLabel()
  setState({ pinned: { label, result, raw, run: null } })
  void keepRun(`Pinned: ${label}`).then((run) => {
    const now = getState().pinned
    if (run && now?.raw === raw) setState({ pinned: { ...now, run: run.id } })
  })
}

export async function keepRun(name: string, note = '') {
  try {
    const run = await answer(
      client.POST('/api/projects/{project_id}/keep', { params: { path: path() }, body: { name, note } }),
    )
    setState((s) => ({ runsKept: s.runsKept + 1 }))
    return run
  } catch (error) {
    notify('problem', messageOf(error))
    return null
  }
}

/** A result from the service as the bench holds one. */
export function resultOf(
  found: { account: unknown; summary: unknown; findings: unknown; tables: unknown },
  revision: number,
): Result {
  return complete({ ...found, revision, rows: `run ${revision}`, solve_ms: 0 } as unknown as Live, null)
}

/** Pin a kept run: every view shows the difference from it. */
export async function pinRun(id: string, label: string) {
  try {
    const found = await answer(
      client.GET('/api/projects/{project_id}/runs/{run_id}', {
        params: { path: { ...path(), run_id: id } },
      }),
    )
    setState({ pinned: { label, ...shownResult(resultOf(found.result, found.run.revision)), run: id } })
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

/** Show the network as it stood when a run was made, with the run's result; nothing can be edited meanwhile. */
export async function lookAt(id: string) {
  try {
    const found = await answer(
      client.GET('/api/projects/{project_id}/runs/{run_id}/picture', {
        params: { path: { ...path(), run_id: id } },
      }),
    )
    const { items, raw, looking } = getState()
    const back = looking?.back ?? { items, raw }
    setState({
      looking: { name: found.run.name, revision: found.run.revision, back },
      items: new Map((found.items as Item[]).map((i) => [i.id, i])),
      ...shownResult(resultOf(found.result, found.run.revision)),
      selected: null,
      chosen: new Set(),
    })
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

export function lookAway() {
  const { looking } = getState()
  if (!looking) return
  const { items, raw } = looking.back
  setState({ looking: null, items, ...(raw ? shownResult(raw) : { raw, result: null }) })
}

export const placeAs = (what: 'map' | 'schematic' | 'lengths', ids?: string[], anew = false) =>
  sendOrTell((base_revision) =>
    client.POST('/api/projects/{project_id}/place', {
      params: { path: path() },
      body: { base_revision, what, anew, ids: ids ?? null },
    }),
  )
