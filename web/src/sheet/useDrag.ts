/** Dragging on the sheet: buses, bar ends, labels, and the selection box. One gesture is one change. */
import { useEffect, useRef, useState } from 'react'
import { type Item, number } from '../model/items'
import { join, updateMany } from '../session/edits'
import { select, selection, selectMany, useBench } from '../session/store'
import { type Box, type Point, snap, toWorld, type View } from './geometry'
import { project, unproject } from './mapScene'
import type { Scene } from './scene'

export type Drag =
  | { readonly kind: 'move'; readonly ids: readonly string[]; readonly held: string }
  | { readonly kind: 'stretch'; readonly id: string; readonly end: -1 | 1 }
  | { readonly kind: 'label'; readonly id: string }
  | { readonly kind: 'box'; readonly from: Point }

interface Started {
  readonly drag: Drag
  readonly pointer: Point
  readonly at: Point
}

/** What is being dragged and how far it is, in sheet units. */
export interface Moving {
  readonly drag: Drag
  readonly dx: number
  readonly dy: number
}

const NEAR = 16

export function useDrag(view: View, scene: Scene, frame: () => DOMRect | undefined) {
  const [moving, setMoving] = useState<Moving | null>(null)
  const started = useRef<Started | null>(null)
  const now = useRef({ moving, view, scene, frame })
  now.current = { moving, view, scene, frame }

  useEffect(() => {
    const move = (event: PointerEvent) => {
      const from = started.current
      if (!from) return
      const { view: v, moving: last } = now.current
      let dx = (event.clientX - from.pointer.x) / v.k
      let dy = (event.clientY - from.pointer.y) / v.k
      if (!last && Math.hypot(dx, dy) * v.k < 4) return
      if (from.drag.kind === 'move' || from.drag.kind === 'stretch') {
        dx = snap(from.at.x + dx) - from.at.x
        dy = snap(from.at.y + dy) - from.at.y
      }
      setMoving({ drag: from.drag, dx, dy })
    }
    const up = () => {
      const done = now.current.moving
      started.current = null
      setMoving(null)
      if (done) finish(done, now.current.scene)
    }
    window.addEventListener('pointermove', move)
    window.addEventListener('pointerup', up)
    return () => {
      window.removeEventListener('pointermove', move)
      window.removeEventListener('pointerup', up)
    }
  }, [])

  const start = (event: React.PointerEvent, drag: Drag, at: Point) => {
    if (event.button) return
    started.current = { drag, pointer: { x: event.clientX, y: event.clientY }, at }
  }
  /** Take hold of a bus: alone, or with everything selected when it is part of that. */
  const grab = (event: React.PointerEvent, id: string, at: Point) => {
    const together = selection()
    const ids = together.includes(id) ? together.filter((i) => scene.busById.has(i)) : [id]
    start(event, { kind: 'move', ids, held: id }, at)
  }
  const box = (event: React.PointerEvent) => {
    const rect = frame()
    if (!rect) return
    const from = toWorld(view, { x: event.clientX - rect.left, y: event.clientY - rect.top })
    start(event, { kind: 'box', from }, from)
  }
  return { moving, start, grab, box }
}

function finish({ drag, dx, dy }: Moving, scene: Scene) {
  if (drag.kind === 'box') return selectMany(inside(scene, boxFrom(drag.from, dx, dy)))
  if (drag.kind === 'label') return moveLabel(drag.id, dx, dy)
  if (drag.kind === 'stretch') return stretch(drag.id, drag.end, dx, dy)
  const joins = drag.ids.length === 1 && useBench.getState().arrangement !== 'map'
  const target = joins ? nodeAt(scene, drag.held, dx, dy) : null
  if (target) {
    select(drag.held)
    void join(drag.held, target)
  } else moveBuses(drag.ids, dx, dy)
}

export const boxFrom = (from: Point, dx: number, dy: number): Box => ({
  minX: Math.min(from.x, from.x + dx),
  maxX: Math.max(from.x, from.x + dx),
  minY: Math.min(from.y, from.y + dy),
  maxY: Math.max(from.y, from.y + dy),
})

const within = (b: Box, p: Point) => p.x >= b.minX && p.x <= b.maxX && p.y >= b.minY && p.y <= b.maxY

function inside(scene: Scene, box: Box): string[] {
  return [...scene.centre].filter(([, p]) => within(box, p)).map(([id]) => id)
}

/** Another node of the same voltage on which a dragged one is let go. */
export function nodeAt(scene: Scene, held: string, dx: number, dy: number): string | null {
  const bus = scene.busById.get(held)
  if (!bus) return null
  for (const b of scene.buses) {
    const reach = b.upright ? 0 : b.half
    const near = Math.abs(b.y - bus.y - dy) < NEAR && Math.abs(b.x - bus.x - dx) < NEAR / 2 + reach
    if (b.id !== held && b.kv === bus.kv && near) return b.id
  }
  return null
}

/** Longitude and latitude of a bus moved by so many map units. */
export function movedOnMap(item: Item, dx: number, dy: number): Partial<Item> {
  const p = project(number(item, 'longitude') ?? 0, number(item, 'latitude') ?? 0)
  const { lon, lat } = unproject({ x: p.x + dx, y: p.y + dy })
  return { longitude: Number(lon.toFixed(6)), latitude: Number(lat.toFixed(6)) }
}

export function moveBuses(ids: readonly string[], dx: number, dy: number) {
  const { items, arrangement } = useBench.getState()
  const found = ids.flatMap((id) => items.get(id) ?? []).filter((i) => i.kind === 'bus')
  if (!found.length || (!dx && !dy)) return
  const at = (item: Item, axis: string, by: number) => (number(item, axis) ?? 0) + by
  const words = found.length === 1 ? found[0]!.name : `${found.length} buses`
  const moved = (i: Item) =>
    arrangement === 'map' ? movedOnMap(i, dx, dy) : { x: at(i, 'x', dx), y: at(i, 'y', dy) }
  void updateMany(
    found.map((i) => ({ id: i.id, values: moved(i) })),
    `Move ${words}`,
  )
}

/** One end of a bar moves, the other stays where it is. */
function stretch(id: string, end: -1 | 1, dx: number, dy: number) {
  const item = useBench.getState().items.get(id)
  if (!item) return
  const upright = item.upright === true
  const by = (upright ? dy : dx) * end
  const bar = Math.max((number(item, 'bar') ?? 36) + by, 20)
  const grown = bar - (number(item, 'bar') ?? 36)
  const axis = upright ? 'y' : 'x'
  const middle = (number(item, axis) ?? 0) + (grown / 2) * end
  void updateMany([{ id, values: { bar, [axis]: middle } }], `Stretch ${item.name}`)
}

function moveLabel(id: string, dx: number, dy: number) {
  const item = useBench.getState().items.get(id)
  if (!item) return
  const values = {
    label_dx: (number(item, 'label_dx') ?? 0) + dx,
    label_dy: (number(item, 'label_dy') ?? 0) + dy,
  }
  void updateMany([{ id, values }], `Move the label of ${item.name}`)
}
