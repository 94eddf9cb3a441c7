/** Dragging a bus: shown while it moves, kept as one change when it is let go. */
import { useEffect, useRef, useState } from 'react'
import { updateOrTell } from '../session'
import { select, useBench } from '../store'
import { type Point, snap, type View } from './geometry'

export interface Moving extends Point {
  readonly id: string
}

export function useMoveBus(view: View) {
  const [moving, setMoving] = useState<Moving | null>(null)
  const start = useRef<{ id: string; pointer: Point; at: Point } | null>(null)
  const latest = useRef<Moving | null>(null)
  latest.current = moving
  const zoom = useRef(view.k)
  zoom.current = view.k

  useEffect(() => {
    const move = (event: PointerEvent) => {
      const from = start.current
      if (!from) return
      const dx = (event.clientX - from.pointer.x) / zoom.current
      const dy = (event.clientY - from.pointer.y) / zoom.current
      if (!latest.current && Math.hypot(dx, dy) * zoom.current < 4) return
      setMoving({ id: from.id, x: snap(from.at.x + dx), y: snap(from.at.y + dy) })
    }
    const up = () => {
      const from = start.current
      const to = latest.current
      start.current = null
      setMoving(null)
      if (from && to) moveBus(to.id, to)
    }
    window.addEventListener('pointermove', move)
    window.addEventListener('pointerup', up)
    return () => {
      window.removeEventListener('pointermove', move)
      window.removeEventListener('pointerup', up)
    }
  }, [])

  const grab = (event: React.PointerEvent, id: string, at: Point) => {
    if (event.button) return
    select(id)
    start.current = { id, pointer: { x: event.clientX, y: event.clientY }, at }
  }
  return { moving, grab }
}

export function moveBus(id: string, to: Point) {
  const item = useBench.getState().items.get(id)
  if (item && (item.x !== to.x || item.y !== to.y))
    void updateOrTell(item, { x: to.x, y: to.y }, `Move ${item.name}`)
}
