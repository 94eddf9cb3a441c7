/** Choosing the second bus: what was asked for happens between the two. */
import { grow, join } from './edits'
import { select, useBench } from './store'

export function startPicking(from: string, what: string, label: string) {
  select(from)
  useBench.setState({ picking: { from, what, label } })
}

/** The second bus has been chosen, by pointer or by name. */
export function pick(to: string) {
  const { picking } = useBench.getState()
  useBench.setState({ picking: null })
  if (!picking || picking.from === to) return
  if (picking.what === 'join') void join(picking.from, to)
  else void grow(picking.from, picking.what, to)
}
