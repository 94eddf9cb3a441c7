/** Pinning, kept runs, and looking at earlier ones. */
import { answer, client, type Live, messageOf, TAB } from '../api/client'
import type { components } from '../api/schema'
import type { Item } from '../model/items'
import { complete, type Result } from '../model/results'
import { path } from './queue'
import { notify, resultLabel, shownResult, useBench } from './store'

const { getState, setState } = useBench

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

/** Keep a result as a run; the one on this tab's screen unless another is named. */
export async function keepRun(name: string, note = '', address = 'live') {
  try {
    const run = await answer(
      client.POST('/api/projects/{project_id}/results/{address}/keep', {
        params: { path: { ...path(), address }, query: { tab: TAB } },
        body: { name, note },
      }),
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

/** Results as one document for paper, by their addresses. */
export async function printed(
  title: string,
  parts: readonly components['schemas']['DocumentPart'][],
  done: (name: string, file: Blob) => void,
) {
  notify('news', 'The document is being set.')
  try {
    const response = await fetch(`/api/projects/${path().project_id}/document`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ title, parts, tab: TAB }),
    })
    if (!response.ok) throw new Error((await response.json()).detail)
    done(`${title}.pdf`, await response.blob())
  } catch (error) {
    notify('problem', `No document was made: ${messageOf(error)}`)
  }
}
