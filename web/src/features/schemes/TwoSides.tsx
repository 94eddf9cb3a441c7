/** Both sides of a comparison as diagrams of one extent, what is changed marked on both. */
import { useLayoutEffect, useMemo, useRef, useState } from 'react'
import styled, { useTheme } from 'styled-components'
import type { components } from '../../api/schema'
import { fixed } from '../../design/format'
import { font } from '../../design/tokens'
import type { Item, Items } from '../../model/items'
import { activeLabels, usePrefs } from '../../model/prefs'
import { type Result, viewed } from '../../model/results'
import { resultOf } from '../../session/runs'
import { useBench } from '../../session/store'
import { Lettering, Marks } from '../../sheet/Lettering'
import { labelsFor } from '../../sheet/labels'
import { Painter } from '../../sheet/Painter'
import { makePaint } from '../../sheet/paint'
import { buildScene, type Scene } from '../../sheet/scene'

type Side = components['schemas']['CaseOut']

const Both = styled.div`
  display: grid; grid-template-columns: 1fr 1fr; height: 100%; min-height: 120px;
  figure { margin: 0; min-width: 0; min-height: 0; display: grid; grid-template-rows: auto minmax(0, 1fr); } figure:first-child { border-right: 1px solid ${(p) => p.theme.rule}; }
  figcaption { padding: 2px 12px; font-size: 12px; color: ${(p) => p.theme.quiet}; b { color: ${(p) => p.theme.ink}; font-weight: 500; } }
  svg { width: 100%; height: 100%; } .figure { font: 400 10.5px ${font.mono}; } .name { font: 500 11px ${font.sans}; }
`
const None = styled.p`padding: 14px 16px; color: ${(p) => p.theme.quiet};`

interface Drawn {
  readonly scene: Scene
  readonly items: Items
  readonly result: Result
}

export function TwoSides({
  before,
  after,
  changed,
}: {
  before: Side
  after: Side
  changed: readonly string[]
}) {
  const way = usePrefs((s) => s.way)
  const drawn = useMemo(() => {
    const one = (side: Side): Drawn | null => {
      if (!side.result) return null
      const items = new Map((side.items as unknown as Item[]).map((i) => [i.id, i]))
      return { scene: buildScene(items), items, result: viewed(resultOf(side.result, 0), way) }
    }
    return [one(before), one(after)] as const
  }, [before, after, way])
  if (!drawn[0] || !drawn[1]) return <None>Solving both sides …</None>
  const box = extent(drawn as readonly Drawn[], changed)
  // What is outside limits on either side is named on both.
  const told = new Set(drawn.flatMap((d) => d!.result.findings.map((f) => f.element)))
  return (
    <Both>
      {[before, after].map((side, n) => (
        <figure key={side.title}>
          <figcaption>
            <b>{side.title}</b>
            <br />
            {summary(drawn[n]!.result)}
          </figcaption>
          <Diagram drawn={drawn[n]!} box={box} changed={changed} told={told} title={side.title} />
        </figure>
      ))}
    </Both>
  )
}

/** The most telling totals in few words. */
const summary = (result: Result) =>
  (result.totals ?? [])
    .flatMap((t) => {
      const value = result.summary[t.name]
      return t.short && typeof value === 'number'
        ? [`${t.short.toLowerCase()} ${fixed(value, t.digits ?? 2)} ${t.unit ?? ''}`.trim()]
        : []
    })
    .concat(`${result.findings.filter((f) => f.severity === 'breach').length} breaches`)
    .join(' · ')

interface Extent {
  readonly x: number
  readonly y: number
  readonly width: number
  readonly height: number
}

/** The part of the sheet around what is changed, the same on both sides; all of it where nothing is. */
function extent(drawn: readonly Drawn[], changed: readonly string[]): Extent {
  const spots = drawn.flatMap((d) => changed.flatMap((id) => d.scene.centre.get(id) ?? []))
  const all = spots.length ? spots : drawn.flatMap((d) => d.scene.buses.map((b) => ({ x: b.x, y: b.y })))
  const xs = all.map((p) => p.x)
  const ys = all.map((p) => p.y)
  const room = 110
  const x = Math.min(...xs) - room
  const y = Math.min(...ys) - room
  return { x, y, width: Math.max(...xs) - x + room, height: Math.max(...ys) - y + room }
}

interface DiagramProps {
  readonly drawn: Drawn
  readonly box: Extent
  readonly changed: readonly string[]
  readonly told: ReadonlySet<string>
  readonly title: string
}

function Diagram({ drawn, box, changed, told, title }: DiagramProps) {
  const theme = useTheme()
  const prefs = usePrefs()
  const lens = useBench((s) => s.lens)
  const svg = useRef<SVGSVGElement>(null)
  const [size, setSize] = useState({ width: 480, height: 240 })
  useLayoutEffect(() => {
    const watch = new ResizeObserver(([entry]) => {
      if (entry) setSize({ width: entry.contentRect.width, height: entry.contentRect.height })
    })
    if (svg.current) watch.observe(svg.current)
    return () => watch.disconnect()
  }, [])
  const { scene, items, result } = drawn
  const paint = makePaint({
    palette: theme,
    lens: lens === 'difference' || lens === 'study' ? 'both' : lens,
    bands: prefs.bands,
    items,
    result,
  })
  const k = Math.min(size.width / box.width, size.height / box.height)
  const view = {
    k,
    x: size.width / 2 - (box.x + box.width / 2) * k,
    y: size.height / 2 - (box.y + box.height / 2) * k,
  }
  const words = { set: activeLabels(prefs), units: prefs.units }
  const labels = labelsFor(scene, result, words, paint, view, size.width, size.height, told)
  return (
    <svg ref={svg} role="img" aria-label={`Diagram of ${title}`}>
      <g transform={`translate(${view.x} ${view.y}) scale(${k})`}>
        {[...new Set(changed)].map((id) => {
          const p = scene.centre.get(id)
          return p && <circle key={id} cx={p.x} cy={p.y} r={16} fill={theme.watch} fillOpacity={0.22} />
        })}
        <Painter shapes={scene} paint={paint} symbolScale={1} showFlow={false} animate={false} />
      </g>
      <Lettering labels={labels} />
      <Marks shapes={scene} paint={paint} view={view} />
    </svg>
  )
}
