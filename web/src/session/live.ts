/** Trying factors while a slider moves: at most one request under way, the newest value wins. */
import { answer, client, messageOf, TAB } from '../api/client'
import type { Item } from '../model/items'
import { known, path, show, updateOrTell } from './queue'
import { notify, useBench } from './store'

const { getState, setState } = useBench

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
          body: {
            demand_factor: trying.demand,
            generation_factor: trying.generation,
            lost: [...(trying.lost?.ids ?? [])],
            closed: [...(trying.lost?.closed ?? [])],
            moment: trying.moment,
            year: trying.year,
            tab: TAB,
          },
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

/** Show the network after something is lost and switches are closed, without changing it; `endTrial` shows it whole again. */
export function tryLoss(ids: readonly string[], name: string, closed?: readonly string[]) {
  if (getState().looking) return
  setState((s) => ({ trying: { ...s.trying, lost: { ids, name, closed } } }))
  if (underWay) waiting = true
  else void preview()
}

/** Show the network at a moment by its profiles, without changing it. */
export function tryMoment(moment: string) {
  if (getState().looking) return
  setState({ trying: { moment } })
  if (underWay) waiting = true
  else void preview()
}

/** Show the network with the demand of a year, without changing it. */
export function tryYear(year: number) {
  if (getState().looking) return
  setState({ trying: { year } })
  if (underWay) waiting = true
  else void preview()
}

export async function endTrial() {
  const { trying } = getState()
  if (!trying?.lost && !trying?.moment && !trying?.year) return
  setState({ trying: null })
  try {
    show(
      await answer(
        client.POST('/api/projects/{project_id}/preview', {
          params: { path: path(), query: known() },
          body: { lost: [], closed: [], tab: TAB },
        }),
      ),
    )
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

// An edit shows the network whole again: what is shown is what it made.
useBench.subscribe((now, before) => {
  if (now.revision !== before.revision && (now.trying?.lost || now.trying?.moment || now.trying?.year))
    setState({ trying: null })
})

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
