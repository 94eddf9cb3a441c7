/** Stations and feeders as one mark each: left half the worst voltage, right half the highest loading. */
import { memo, useMemo } from 'react'
import styled, { useTheme } from 'styled-components'
import { fixed } from '../design/format'
import { MarkShape } from '../design/Icon'
import type { Items } from '../model/items'
import type { Result } from '../model/results'
import { Box as Details } from './Detail'
import { type Folded, figuresOf, type Mark, type MarkFigures, radiusOf } from './folding'
import { type Box, overlaps, toScreen, type View } from './geometry'
import { CHAR, type Label, wiresOf } from './labels'
import type { Shapes } from './Painter'
import type { Paint } from './paint'

interface Props {
  readonly folded: Folded
  /** What is drawn and can be seen. */
  readonly shapes: Shapes
  readonly paint: Paint
  readonly result: Result | null
  readonly view: View
  readonly size: { readonly width: number; readonly height: number }
  /** What is written already: names keep off it. */
  readonly labels: readonly Label[]
  /** Ids that are selected or pointed at: a mark that holds one is ringed. */
  readonly lit: ReadonlySet<string>
  readonly open: (mark: Mark) => void
  readonly point: (mark: Mark | null) => void
}

export function MarksLayer(props: Props) {
  const { folded, shapes, paint, result, view, size, lit, labels, open, point } = props
  const figures = useMemo(
    () => new Map(folded.marks.map((m) => [m.key, figuresOf(m, folded, result, paint)])),
    [folded, result, paint],
  )
  const shown = marksIn(folded, view, size)
  const ringed = useMemo(
    () => new Set([...lit].flatMap((id) => folded.within.get(id)?.key ?? [])),
    [lit, folded],
  )
  const struck = wiresOf(shapes, view, size.width, size.height, true)
  const names = namesOf(shown, figures, view, labels, struck)
  return (
    <g>
      <g transform={`translate(${view.x} ${view.y}) scale(${view.k})`}>
        {shown.map((m) => {
          const f = figures.get(m.key)
          return (
            <One
              key={m.key}
              mark={m}
              radius={radiusOf(m, view.k)}
              k={view.k}
              left={f?.voltage ? paint.bus(f.voltage.id) : ''}
              right={f?.loading ? paint.branch(f.loading.id) : ''}
              ringed={ringed.has(m.key)}
              open={open}
              point={point}
            />
          )
        })}
      </g>
      <Writing names={names} />
      <Signs marks={shown} figures={figures} view={view} />
    </g>
  )
}

/** Marks that can be seen. */
export const marksIn = (folded: Folded, view: View, size: { width: number; height: number }) =>
  folded.marks.filter((m) => {
    const p = toScreen(view, m.at)
    return p.x > -40 && p.y > -40 && p.x < size.width + 40 && p.y < size.height + 40
  })

/** The places that marks take on the screen. */
export const markBoxes = (marks: readonly Mark[], view: View): Box[] =>
  marks.map((m) => {
    const p = toScreen(view, m.at)
    const r = radiusOf(m, view.k)
    return { minX: p.x - r, maxX: p.x + r, minY: p.y - r, maxY: p.y + r }
  })

/** The halves of a circle, or of a square with round corners for what has a station in it. */
const halves = (kind: Mark['kind'], r: number) => {
  if (kind === 'feeder')
    return [`M0${-r}A${r} ${r} 0 0 0 0 ${r}Z`, `M0${-r}A${r} ${r} 0 0 1 0 ${r}Z`] as const
  const c = r * 0.35
  return [
    `M0${-r}H${c - r}Q${-r} ${-r} ${-r} ${c - r}V${r - c}Q${-r} ${r} ${c - r} ${r}H0Z`,
    `M0${-r}H${r - c}Q${r} ${-r} ${r} ${c - r}V${r - c}Q${r} ${r} ${r - c} ${r}H0Z`,
  ] as const
}

const One = memo(function One(props: {
  mark: Mark
  radius: number
  k: number
  left: string
  right: string
  ringed: boolean
  open: (mark: Mark) => void
  point: (mark: Mark | null) => void
}) {
  const theme = useTheme()
  const { mark, radius, k, left, right } = props
  const [first, second] = halves(mark.kind, radius)
  return (
    <g
      data-group={mark.key}
      data-group-kind={mark.kind}
      transform={`translate(${mark.at.x} ${mark.at.y}) scale(${1 / k})`}
      style={{ cursor: 'zoom-in' }}
      onClick={(e) => {
        e.stopPropagation()
        props.open(mark)
      }}
      onPointerEnter={() => props.point(mark)}
      onPointerLeave={() => props.point(null)}
    >
      {props.ringed && <circle r={radius + 5} fill={theme.accent} fillOpacity={0.34} />}
      <path d={first} fill={left || theme.panel} stroke={left ? theme.panel : theme.dead} />
      <path d={second} fill={right || theme.panel} stroke={right ? theme.panel : theme.dead} />
    </g>
  )
})

interface Name {
  readonly key: string
  readonly x: number
  readonly y: number
  readonly name: string
  readonly anchor: 'start' | 'middle'
  readonly value: string
  readonly severity: string | undefined
}

const MOST_NAMES = 160

/** Names with their two figures where labels leave room, findings and the largest first. */
function namesOf(
  marks: readonly Mark[],
  figures: ReadonlyMap<string, MarkFigures>,
  view: View,
  labels: readonly Label[],
  struck: (box: Box) => number,
): Name[] {
  const places = markBoxes(marks, view)
  const taken: Box[] = [...labels.map((l) => l.box), ...places]
  const order = marks
    .map((m, n) => ({ m, own: places[n]!, f: figures.get(m.key) }))
    .sort((a, b) => weight(b.m, b.f) - weight(a.m, a.f))
  const names: Name[] = []
  for (const { m, own, f } of order) {
    if (names.length >= MOST_NAMES) break
    const figuresText = [
      f?.voltage ? fixed(f.voltage.pu, 3) : '',
      f?.loading ? `${fixed(f.loading.pct, 0)} %` : '',
    ]
    const free = spotsOf(m, own, figuresText.filter(Boolean).join(' · ')).filter(
      ({ box }) => !taken.some((t) => t !== own && overlaps(t, box)),
    )
    // A line through the name of a station is better than no name; feeders are many.
    const spot =
      free.find(({ box }) => !struck(box)) ?? (m.kind === 'feeder' && !f?.finding ? undefined : free[0])
    if (!spot) continue
    taken.push(spot.box)
    names.push({ ...spot, key: m.key, name: m.name, severity: f?.finding?.severity })
  }
  return names
}

type Spot = Pick<Name, 'x' | 'y' | 'anchor' | 'value'> & { readonly box: Box }

/** Where the name may stand: below a station, beside a feeder; with its figures before without. */
function spotsOf(mark: Mark, own: Box, value: string): Spot[] {
  const long = mark.name.length * 1.05 * CHAR
  const x = (own.minX + own.maxX) / 2
  const y = (own.minY + own.maxY) / 2
  const below = (v: string): Spot => {
    const half = Math.max(long, v.length * CHAR) / 2 + 2
    const box = { minX: x - half, maxX: x + half, minY: own.maxY + 1, maxY: own.maxY + (v ? 29 : 15) }
    return { x, y: own.maxY + 12, anchor: 'middle', value: v, box }
  }
  const beside = (v: string): Spot => {
    const wide = long + (v ? (v.length + 1) * CHAR : 0)
    const box = { minX: own.maxX + 2, maxX: own.maxX + 6 + wide, minY: y - 7, maxY: y + 7 }
    return { x: own.maxX + 4, y: y + 4, anchor: 'start', value: v, box }
  }
  return mark.kind === 'feeder'
    ? [beside(value), beside(''), below('')]
    : [below(value), below(''), beside('')]
}

const weight = (m: Mark, f: MarkFigures | undefined) =>
  (f?.finding ? 1e6 * (f.finding.severity === 'breach' ? 2 : 1) : 0) +
  (m.kind === 'feeder' ? 0 : 1e4) +
  m.buses.length

function Writing({ names }: { names: readonly Name[] }) {
  const theme = useTheme()
  return (
    <g pointerEvents="none" paintOrder="stroke" stroke={theme.panel} strokeWidth={3.5} strokeLinejoin="round">
      {names.map((n) => (
        <text key={n.key} x={n.x} y={n.y} textAnchor={n.anchor}>
          <tspan className="name" fill={theme.ink}>
            {n.name}
          </tspan>
          {n.value && (
            <tspan
              {...(n.anchor === 'middle' ? { x: n.x, dy: 13 } : { dx: CHAR })}
              fill={n.severity === 'breach' ? theme.breach : n.severity ? theme.watchInk : theme.quiet}
            >
              {n.value}
            </tspan>
          )}
        </text>
      ))}
    </g>
  )
}

/** The sign of the worst finding at every mark that holds one. */
function Signs(props: { marks: readonly Mark[]; figures: ReadonlyMap<string, MarkFigures>; view: View }) {
  const theme = useTheme()
  return (
    <g pointerEvents="none">
      {props.marks.map((m) => {
        const finding = props.figures.get(m.key)?.finding
        if (!finding) return null
        const p = toScreen(props.view, m.at)
        const r = radiusOf(m, props.view.k)
        return (
          <g
            key={m.key}
            data-group-mark={m.key}
            transform={`translate(${p.x + r - 3} ${p.y - r - 8}) scale(0.7)`}
            fill={finding.severity === 'breach' ? theme.breach : theme.watch}
          >
            <MarkShape severity={finding.severity} direction={finding.direction} />
          </g>
        )
      })}
    </g>
  )
}

const Hint = styled.p`margin: 2px 0 0; color: ${(p) => p.theme.quiet};`

/** What a mark under the pointer stands for, in words and figures. */
export function MarkDetail(props: {
  mark: Mark
  folded: Folded
  paint: Paint
  result: Result | null
  items: Items
  view: View
}) {
  const { mark, folded, items, view } = props
  const f = figuresOf(mark, folded, props.result, props.paint)
  const p = toScreen(view, mark.at)
  const nameOf = (id: string) => items.get(id)?.name ?? id
  const what = { site: 'station with its feeders', station: 'station', feeder: 'feeder' }[mark.kind]
  return (
    <Details style={{ left: p.x + 16, top: p.y + 14 }} data-testid="mark-detail">
      <b>{mark.name}</b> {what}, {mark.buses.length} {mark.buses.length === 1 ? 'bus' : 'buses'}
      {f.voltage && (
        <div>
          {fixed(f.voltage.pu, 4)} p.u. at {nameOf(f.voltage.id)}
        </div>
      )}
      {f.loading && (
        <div>
          {fixed(f.loading.pct, 1)} % in {nameOf(f.loading.id)}
        </div>
      )}
      {f.dead > 0 && <div>{f.dead} without supply</div>}
      {f.findings > 0 && (
        <div>
          {f.findings} {f.findings === 1 ? 'finding' : 'findings'}
        </div>
      )}
      <Hint>Click to open it</Hint>
    </Details>
  )
}

const Pill = styled.div`
  position: absolute; left: 12px; top: 10px; padding: 4px 12px; border-radius: 14px; font-size: 12px; pointer-events: none;
  background: ${(p) => p.theme.paper}; border: 1px solid ${(p) => p.theme.rule}; color: ${(p) => p.theme.quiet};
`

const counted = (n: number, one: string, many: string) => (n ? `${n} ${n === 1 ? one : many}` : '')

/** Says what the marks are, while there are any. */
export function MarksKey({ folded }: { folded: Folded }) {
  const count = { site: 0, station: 0, feeder: 0 }
  for (const m of folded.marks) count[m.kind]++
  const parts = [
    counted(count.site, 'station with its feeders', 'stations with their feeders'),
    counted(count.station, 'station', 'stations'),
    counted(count.feeder, 'feeder', 'feeders'),
  ].filter(Boolean)
  if (!parts.length) return null
  return (
    <Pill role="status" data-testid="marks-key">
      {parts.join(', ')}, one mark each: worst voltage left, highest loading right. Nearer they open.
    </Pill>
  )
}
