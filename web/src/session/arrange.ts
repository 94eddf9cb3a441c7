/** Arranging what is selected: align, distribute, turn, flip, put labels back, select what is fed. */
import { answer, client, messageOf } from '../api/client'
import { type Item, number } from '../model/items'
import { updateMany } from './edits'
import { notify, selection, selectMany, useBench } from './store'

const chosen = (): Item[] => {
  const { items } = useBench.getState()
  return selection().flatMap((id) => items.get(id) ?? [])
}

export const chosenBuses = () => chosen().filter((i) => i.kind === 'bus')

export type Axis = 'x' | 'y'

/** Put the selected buses on one line: the mean of where they are. */
export function align(axis: Axis) {
  const buses = chosenBuses()
  if (buses.length < 2) return
  const mean = buses.reduce((sum, b) => sum + (number(b, axis) ?? 0), 0) / buses.length
  const at = Math.round(mean / 10) * 10
  void updateMany(
    buses.map((b) => ({ id: b.id, values: { [axis]: at } })),
    `Align ${buses.length} buses`,
  )
}

/** Even gaps between the selected buses, the outermost staying where they are. */
export function distribute(axis: Axis) {
  const buses = chosenBuses().sort((a, b) => (number(a, axis) ?? 0) - (number(b, axis) ?? 0))
  if (buses.length < 3) return
  const first = number(buses[0], axis) ?? 0
  const last = number(buses.at(-1), axis) ?? 0
  const step = (last - first) / (buses.length - 1)
  void updateMany(
    buses.map((b, n) => ({ id: b.id, values: { [axis]: Math.round((first + n * step) / 5) * 5 } })),
    `Distribute ${buses.length} buses`,
  )
}

/** Buses turn upright or flat; symbols go to the other side. */
export function turn() {
  const found = chosen()
  if (!found.length) return
  const changes = found.map((i) => ({
    id: i.id,
    values:
      i.kind === 'bus' ? { upright: i.upright !== true } : { flipped: i.flipped === true ? null : true },
  }))
  void updateMany(changes, found.length === 1 ? `Turn ${found[0]!.name}` : `Turn ${found.length} symbols`)
}

export function resize(factor: number) {
  const found = chosen().filter((i) => i.kind !== 'bus')
  if (!found.length) return
  const size = (i: Item) =>
    Math.round(Math.min(Math.max((number(i, 'symbol_size') ?? 1) * factor, 0.4), 4) * 100) / 100
  void updateMany(
    found.map((i) => ({ id: i.id, values: { symbol_size: size(i) } })),
    `Resize ${found.length === 1 ? found[0]!.name : `${found.length} symbols`}`,
  )
}

export function labelsBack() {
  const found = chosen().filter((i) => i.label_dx !== undefined || i.label_dy !== undefined)
  if (!found.length) return notify('news', 'No label of the selection has been moved.')
  void updateMany(
    found.map((i) => ({ id: i.id, values: { label_dx: null, label_dy: null } })),
    'Put labels back',
  )
}

/** Select an element with everything that only it feeds. */
export async function selectFed(id: string) {
  const { project, items } = useBench.getState()
  if (!project) return
  try {
    const fed = await answer(
      client.GET('/api/projects/{project_id}/supply/{ident}', {
        params: { path: { project_id: project.id, ident: id } },
      }),
    )
    const buses = new Set(fed.buses)
    const ends = (i: Item) => Object.entries(i).filter(([k]) => k === 'bus' || k.endsWith('_bus'))
    const touching = [...items.values()].filter((i) => ends(i).some(([, b]) => buses.has(String(b))))
    selectMany([id, ...fed.buses, ...touching.map((i) => i.id)])
    if (!fed.buses.length) notify('news', `${items.get(id)?.name} alone feeds nothing.`)
  } catch (error) {
    notify('problem', messageOf(error))
  }
}
