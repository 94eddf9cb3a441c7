/** What lies behind and above the diagram: the map, the surface of voltage or loading, bends of routes. */
import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useRef, useState } from 'react'
import { useTheme } from 'styled-components'

import { keys } from '../api/queries'
import { usePrefs } from '../model/prefs'
import { updateOrTell } from '../session/queue'
import { useBench, useParts } from '../session/store'
import { type Box, overlaps, type Point, toScreen, toWorld, type View } from './geometry'
import { paintSurface, spotsOf, spread, surfaceOf } from './heat'
import type { Label } from './labels'
import { type Backdrop as Map_, pieceAt, project, readBackdrop, unproject } from './mapScene'
import type { Scene } from './scene'

const NOTHING: Map_ = { land: [], lines: [], places: [] }

export function useBackdrop(wanted: boolean): Map_ {
  const project = useBench((s) => s.project?.id)
  const file = useBench((s) => s.items.get('backdrop')?.file) as { sha256?: string } | undefined
  const { data } = useQuery({
    queryKey: keys.backdrop(project, file?.sha256),
    queryFn: async () => (await fetch(`/api/projects/${project}/backdrop`)).json(),
    enabled: wanted && !!project,
    staleTime: Number.POSITIVE_INFINITY,
  })
  return useMemo(() => (data ? readBackdrop(data) : NOTHING), [data])
}

/** Coast and roads, in map units. */
export function Backdrop({ map }: { map: Map_ }) {
  const theme = useTheme()
  return (
    <g pointerEvents="none" data-testid="backdrop">
      {map.land.map((d) => (
        <path
          key={d.slice(0, 60)}
          d={d}
          fill={theme.land}
          stroke={theme.coast}
          strokeWidth={1}
          vectorEffect="non-scaling-stroke"
          fillRule="evenodd"
        />
      ))}
      {map.lines.map((l) => (
        <path
          key={l.d.slice(0, 60)}
          d={l.d}
          fill="none"
          stroke={l.kind === 'river' ? theme.coast : theme.rule}
          strokeWidth={l.kind === 'main' ? 2.4 : 1.2}
          vectorEffect="non-scaling-stroke"
        />
      ))}
    </g>
  )
}

/** Around a symbol: no place name stands there. */
const CLEAR = 9

/** Settlements in screen coordinates, each where neither a label nor a symbol stands, or not at all. */
export function Places(props: { map: Map_; view: View; labels: readonly Label[]; buses: readonly Point[] }) {
  const theme = useTheme()
  const { map, view, labels, buses } = props
  const taken: Box[] = [
    ...labels.map((l) => l.box),
    ...buses.map((b) => {
      const p = toScreen(view, b)
      return { minX: p.x - CLEAR, maxX: p.x + CLEAR, minY: p.y - CLEAR, maxY: p.y + CLEAR }
    }),
  ]
  return (
    <g pointerEvents="none" data-testid="places">
      {map.places.map((p) => {
        const size = p.size > 1 ? 14 : 11.5
        const half = (p.name.length * size * 0.58) / 2
        const at = toScreen(view, p.at)
        const found = [0, 18, -20, 34, -36]
          .map((dy) => ({ x: at.x, y: at.y + dy }))
          .find((q) => {
            const box = { minX: q.x - half, maxX: q.x + half, minY: q.y - size, maxY: q.y + 4 }
            return !taken.some((t) => overlaps(t, box))
          })
        if (!found) return null
        return (
          <text
            key={p.name}
            x={found.x}
            y={found.y}
            textAnchor="middle"
            fill={theme.place}
            stroke={theme.land}
            strokeWidth={3}
            paintOrder="stroke"
            style={{
              font: `italic 400 ${size}px 'IBM Plex Sans', sans-serif`,
              letterSpacing: '0.06em',
            }}
          >
            {p.name}
          </text>
        )
      })}
    </g>
  )
}

/** The surface of what the lens shows: the voltage unless it is one other quantity. */
export function HeatSurface(props: { scene: Scene; view: View; width: number; height: number }) {
  const theme = useTheme()
  const { scene, view, width, height } = props
  const result = useBench((s) => s.result)
  const lens = useBench((s) => s.lens)
  const bands = usePrefs((s) => s.bands)
  const canvas = useRef<HTMLCanvasElement>(null)
  useEffect(() => {
    if (!canvas.current) return
    const { quantity, hue } = surfaceOf(lens, result, theme, bands)
    paintSurface(canvas.current, spread(spotsOf(scene, result, quantity, view), width, height), hue)
  }, [scene, result, lens, view, width, height, theme, bands])
  return <canvas ref={canvas} data-testid="surface" style={{ imageRendering: 'auto' }} />
}

/** Bends of the selected line: drag one to move it, the small ones between to add one, double click to take one out. */
export function Routes({ scene, view }: { scene: Scene; view: View }) {
  const theme = useTheme()
  const { selected, chosen, items } = useParts('selected', 'chosen', 'items')
  const [drag, setDrag] = useState<{ at: number; p: Point; add: boolean } | null>(null)
  const item = items.get(selected ?? '')
  const shape = scene.branches.find((b) => b.id === selected)
  if (chosen.size || item?.kind !== 'line' || !shape) return null
  const route = ((item.route ?? []) as [number, number][]).map(([lon, lat]) => project(lon, lat))
  const save = (points: readonly Point[]) => {
    const bends = points.map((p) => {
      const { lon, lat } = unproject(p)
      return [Number(lon.toFixed(6)), Number(lat.toFixed(6))]
    })
    void updateOrTell(item, { route: bends.length ? bends : null }, `Bend ${item.name}`)
  }
  const world = (e: React.PointerEvent): Point => {
    const box = (e.currentTarget as SVGElement).ownerSVGElement!.getBoundingClientRect()
    return toWorld(view, { x: e.clientX - box.left, y: e.clientY - box.top })
  }
  const end = () => {
    if (!drag) return
    const next = [...route]
    if (drag.add) next.splice(pieceAt(shape.points, drag.p), 0, drag.p)
    else next[drag.at] = drag.p
    setDrag(null)
    save(next)
  }
  const handle = (p: Point, at: number, add: boolean) => {
    const s = toScreen(view, drag && drag.at === at && drag.add === add ? drag.p : p)
    return (
      <circle
        key={`${add} ${at}`}
        data-bend={add ? 'new' : at}
        cx={s.x}
        cy={s.y}
        r={add ? 4 : 5.5}
        fill={add ? theme.panel : theme.accent}
        stroke={theme.accent}
        style={{ cursor: 'move' }}
        onPointerDown={(e) => {
          e.stopPropagation()
          e.currentTarget.setPointerCapture(e.pointerId)
          setDrag({ at, p, add })
        }}
        onPointerMove={(e) => drag && setDrag({ ...drag, p: world(e) })}
        onPointerUp={end}
        onDoubleClick={(e) => {
          e.stopPropagation()
          if (!add) save(route.filter((_, i) => i !== at))
        }}
      />
    )
  }
  const middles = shape.points.slice(1).map((q, i) => {
    const p = shape.points[i]!
    return { x: (p.x + q.x) / 2, y: (p.y + q.y) / 2 }
  })
  return (
    <g>
      {middles.map((p, i) => handle(p, i, true))}
      {route.map((p, i) => handle(p, i, false))}
    </g>
  )
}
