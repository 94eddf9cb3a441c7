/** Copy, cut, paste, duplicate: the clip is kept here, so that it outlives what was cut. */
import type { Item } from '../model/items'
import { paste, remove } from './edits'
import { notify, useBench } from './store'

/** Items with what stands beside them alone: a switch takes its current transformers and relays along. */
function withCompanions(ids: readonly string[]): Item[] {
  const { items } = useBench.getState()
  const chosen = new Set(ids)
  return [...items.values()].filter(
    (i) => chosen.has(i.id) || chosen.has(String(i.at ?? '')) || chosen.has(String(i.trips ?? '')),
  )
}

export function copy(ids: readonly string[]) {
  const clip = withCompanions(ids)
  useBench.setState({ clip })
  const words = clip.length === 1 ? clip[0]!.name : `${clip.length} elements`
  notify('news', `${words} copied. Select a bus and paste, or paste where it was.`)
}

export async function cut(ids: string[]) {
  const clip = withCompanions(ids)
  useBench.setState({ clip })
  await remove(ids)
}

/** Paste onto the selected bus, or where it was when no bus is selected. */
export async function pasteHere(times: number) {
  const { clip, selected, items } = useBench.getState()
  const onto = selected && items.get(selected)?.kind === 'bus' ? selected : null
  // A bus that is itself part of the clip is not what it is to hang from.
  const target = clip.some((i) => i.id === onto) ? null : onto
  await paste(clip, target, times)
}

export const duplicate = (ids: readonly string[]) => paste(withCompanions(ids), null, 1)

export function copyData(id: string) {
  useBench.setState({ dataFrom: id })
  notify('news', `Now select what shall have the data of ${useBench.getState().items.get(id)?.name}.`)
}
