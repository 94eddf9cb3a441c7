/** The queue of changes: one at a time; answers older than what is shown are dropped. */
import { answer, type Change, type Changed, client, type Live, messageOf, ServiceError } from '../api/client'
import { applied, type Item, rewires } from '../model/items'
import { complete } from '../model/results'
import { forgetJobs, type Job, loadJobs, takeJob } from './jobs'
import { forgetKept } from './kept'
import { initial, notify, shownResult, useBench } from './store'
import { forgetStudies } from './studies'

const { getState, setState } = useBench
export const path = () => ({ project_id: getState().project?.id ?? '' })

/** The rows whose fixed columns are here already: the service leaves them out. */
export const known = () => {
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
  forgetStudies()
  forgetJobs()
  forgetKept()
  const { wiring } = getState()
  const { shelf, shelfOpen, cardOpen, lens, grid, clip } = getState()
  setState({
    ...initial,
    shelf,
    shelfOpen,
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
  void loadJobs(projectId)
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
export function show(live: Live) {
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
  events.addEventListener('job', (event) => takeJob(JSON.parse((event as MessageEvent<string>).data) as Job))
  // After a break what was told meanwhile has been missed.
  let broken = false
  events.addEventListener('error', () => {
    broken = true
  })
  events.addEventListener('open', () => {
    if (broken) void loadJobs(projectId)
    broken = false
  })
}

export async function catchUp() {
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
  // What is shown ahead of the answer mostly is the answer: then nothing that hangs on the items is drawn again.
  const news = changed.filter((i) => JSON.stringify(state.items.get(i.id)) !== JSON.stringify(i))
  const same = !news.length && !done.removed.length && !done.order
  const items = same ? state.items : applied(state.items, news, done.removed, done.order)
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

/** What somebody saw when they began to type: an edit made on it is refused where that has been changed meanwhile. */
export const seenNow = () => getState().revision

type Send = (baseRevision: number) => Promise<{ data?: unknown; error?: unknown; response: Response }>

const READ_ONLY =
  'This is a picture of an earlier revision. Go back to the present network to change something.'

export function send(call: Send, answered?: () => void): Promise<boolean> {
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

/** Apply changes; throws the service's refusal, so that a form can show it where it belongs. `seen`: the revision that they were
    thought out on, where that is not the present one. */
export function change(label: string, changes: Change[], seen?: number): Promise<boolean> {
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
          body: { base_revision: Math.min(seen ?? base_revision, base_revision), label, changes, key },
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

export const update = (item: Item, values: Record<string, unknown>, label: string, seen?: number) =>
  change(label, [{ op: 'update', id: item.id, values, origins: {} }], seen)

export async function updateOrTell(item: Item, values: Record<string, unknown>, label: string) {
  try {
    await update(item, values, label)
  } catch (error) {
    notify('problem', messageOf(error))
  }
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
