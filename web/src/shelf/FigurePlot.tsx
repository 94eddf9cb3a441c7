/** A declared plot: curves, bars or points over numbers or words, with limits drawn in; a point selects its element. */
import { scaleLinear, scaleLog } from 'd3-scale'
import { useRef, useState } from 'react'
import styled, { useTheme } from 'styled-components'
import type { components } from '../api/schema'
import { fixed } from '../design/format'
import { font } from '../design/tokens'
import { hover, pointAt, select, useBench } from '../session/store'
import { CellPlot } from './CellPlot'
import { LETTER, PlotActs, shortened, useSize } from './plotFrame'

export type Figure = components['schemas']['FigureOut']

const Frame = styled.div`
  height: 100%; min-height: 90px; position: relative; svg { display: block; } text { font: 400 11px ${font.mono}; } [data-element] { cursor: pointer; }
`
const [LEFT, TOP, BOTTOM] = [58, 20, 34]
/** How much of the plot names may take. */
const MOST_NAMES = 0.4
/** Letters that a word along the axis keeps at least. */
const LEAST_WORD = 7
/** Dashes that tell curves apart where colour does not. */
const DASHES = [undefined, '5 4', '2 3', '9 3 2 3']

/** A curve of more points has no marks; what it is at the pointer is told instead. */
const MOST_MARKS = 80

const isFigure = (v: unknown): v is number => typeof v === 'number'

/** A plot by what it is made of. */
export function FigurePlot({ figure }: { figure: Figure }) {
  return figure.series.some((s) => s.drawn === 'cells') ? (
    <CellPlot figure={figure} />
  ) : (
    <Curves figure={figure} />
  )
}

function Curves({ figure }: { figure: Figure }) {
  const theme = useTheme()
  const { frame, size } = useSize()
  const [pointed, setPointed] = useState<number | null>(null)
  const [log, setLog] = useState(false)
  const drawing = useRef<SVGSVGElement>(null)
  const longest = Math.max(0, ...figure.series.map((s) => (figure.series.length > 1 ? s.label.length : 0)))
  const bounded = Math.max(0, ...(figure.bounds ?? []).map((b) => (b.across === 'x' ? 0 : b.label.length)))
  const RIGHT = Math.min(Math.max(longest, bounded, 2) * LETTER + 14, Math.max(size.width * MOST_NAMES, 90))
  const words = [...new Set(figure.series.flatMap((s) => s.x.filter((v) => typeof v === 'string')))]
  const named = words.length > 0
  const place = (v: number | string | null) => (named ? words.indexOf(String(v)) : (v as number))
  const xs = figure.series.flatMap((s) => s.x.map(place).filter(isFigure))
  const bars = figure.series.some((s) => s.drawn === 'bars')
  const ys = [
    ...figure.series.flatMap((s) => s.y.filter(isFigure)),
    ...(figure.bounds ?? []).filter((b) => b.across !== 'x').map((b) => b.value),
    ...(bars ? [0] : []),
  ]
  if (!ys.length || !xs.length) return <Frame ref={frame}>Nothing to plot: no point has a figure.</Frame>
  const edge = named || bars ? 0.5 : 0
  const x = scaleLinear()
    .domain([Math.min(...xs) - edge, Math.max(...xs, Math.min(...xs) + 1e-9) + edge])
    .range([LEFT, size.width - RIGHT])
  const positive = ys.filter((v) => v > 0)
  const mayLog = !bars && positive.length === ys.length
  const logarithmic = log && mayLog
  const span = [Math.min(...ys), Math.max(...ys, Math.min(...ys) + 1e-9)]
  const y = (logarithmic ? scaleLog() : scaleLinear())
    .domain(span)
    .nice()
    .range([size.height - BOTTOM, TOP])
  const ticks = logarithmic ? decades(y.domain()) : y.ticks(Math.max(2, Math.round(size.height / 34)))
  const step = ticks.length > 1 ? Math.abs(ticks[1]! - ticks[0]!) : 1
  const digits = Math.max(0, Math.ceil(-Math.log10(step)))
  const exact = figure.y.digits ?? digits + 1
  const colour = (n: number) =>
    figure.series[n]?.drawn === 'levels'
      ? theme.breach
      : n === 0
        ? theme.accent
        : theme.feeders[n % theme.feeders.length]
  const column = bars
    ? Math.max(2, (x(1) - x(0)) * (0.8 / figure.series.filter((s) => s.drawn === 'bars').length))
    : 0
  const levelHalf = named ? Math.min(16, (x(1) - x(0)) * 0.45) : 8
  const ends = spreadOut(
    figure.series.map((s) => {
      const last = s.y.findLast(isFigure)
      return last === undefined ? 0 : y(last)
    }),
    size.height - 8,
  )
  const long = !named && figure.series.some((s) => (s.drawn ?? 'line') === 'line' && s.x.length > MOST_MARKS)
  // Words that would run into each other are shortened, and left out where nothing readable would be left.
  const longestWord = Math.max(0, ...words.map((w) => w.length))
  const every = named
    ? Math.max(1, Math.ceil((Math.min(longestWord, LEAST_WORD) * LETTER + 6) / (x(1) - x(0))))
    : 1
  const across = named
    ? words.flatMap((w, n) => (n % every ? [] : [{ at: x(n), label: shortened(w, (x(1) - x(0)) * every) }]))
    : x.ticks(Math.max(2, Math.round(size.width / 90))).map((t) => ({ at: x(t), label: String(t) }))
  return (
    <Frame ref={frame}>
      <PlotActs figure={figure} drawing={drawing}>
        {mayLog && !named && (
          <button type="button" aria-pressed={log} onClick={() => setLog(!log)}>
            logarithmic
          </button>
        )}
      </PlotActs>
      <svg
        ref={drawing}
        width={size.width}
        height={size.height}
        role="img"
        aria-label={`${figure.label}: ${figure.series.map((s) => s.label).join('; ')}`}
        data-testid={`figure-${figure.name}`}
        onPointerMove={(e) => {
          const here = e.clientX - e.currentTarget.getBoundingClientRect().left
          setPointed(here)
          const value = named ? Number(words[Math.round(x.invert(here))]) : x.invert(here)
          pointAt(figure.x.linked ?? null, value / (figure.x.per ?? 1), figure.name)
        }}
        onPointerLeave={() => {
          setPointed(null)
          pointAt(null, 0, figure.name)
        }}
      >
        <text x={4} y={12} fill={theme.quiet}>
          {figure.y.label}
          {figure.y.unit ? ` ${figure.y.unit}` : ''}
        </text>
        {ticks.map((t) => (
          <g key={t}>
            <path d={`M${LEFT} ${y(t)}H${size.width - RIGHT}`} stroke={theme.rule} strokeWidth={0.7} />
            <text x={LEFT - 6} y={y(t) + 4} textAnchor="end" fill={theme.quiet}>
              {logarithmic ? `${t}` : fixed(t, digits)}
            </text>
          </g>
        ))}
        {across.map((t) => (
          <text key={t.at} x={t.at} y={size.height - BOTTOM + 15} textAnchor="middle" fill={theme.quiet}>
            {t.label}
          </text>
        ))}
        <text x={size.width - RIGHT} y={size.height - 4} textAnchor="end" fill={theme.quiet}>
          {figure.x.label}
          {figure.x.unit ? ` ${figure.x.unit}` : ''}
        </text>
        {(figure.bounds ?? []).map((b) => (
          <g key={`${b.label} ${b.value}`}>
            <path
              d={
                b.across === 'x'
                  ? `M${x(b.value)} ${TOP}V${size.height - BOTTOM}`
                  : `M${LEFT} ${y(b.value)}H${size.width - RIGHT}`
              }
              stroke={b.across === 'x' ? theme.quiet : theme.breach}
              strokeWidth={b.across === 'x' ? 0.8 : 1}
              strokeDasharray={b.across === 'x' ? '2 3' : '6 4'}
            />
            <text
              x={b.across === 'x' ? x(b.value) + 3 : size.width - RIGHT + 7}
              y={b.across === 'x' ? size.height - BOTTOM - 4 : y(b.value) + 4}
              fill={b.across === 'x' ? theme.quiet : theme.breach}
            >
              {b.label}
            </text>
          </g>
        ))}
        {figure.series.map((s, n) => {
          const points = s.x.map((v, i) => {
            const y = s.y[i]
            return { x: place(v), y: isFigure(y) ? y : null, word: v, id: s.elements?.[i] ?? null }
          })
          const group = figure.series.filter((o) => o.drawn === 'bars')
          const offset = s.drawn === 'bars' ? (group.indexOf(s) - (group.length - 1) / 2) * column : 0
          const marked = s.drawn !== 'line' || points.length <= MOST_MARKS
          return (
            <g key={s.name}>
              {(s.drawn ?? 'line') === 'line' && (
                <path
                  d={pathOf(points, x, y)}
                  fill="none"
                  stroke={colour(n)}
                  strokeWidth={1.8}
                  strokeDasharray={DASHES[n % DASHES.length]}
                />
              )}
              {points.map((p, i) =>
                !marked || !isFigure(p.y) || !isFigure(p.x) ? null : (
                  <g
                    // biome-ignore lint/suspicious/noArrayIndexKey: points have their order and nothing else
                    key={i}
                    data-element={p.id ?? undefined}
                    onClick={p.id ? () => select(p.id, { reveal: true }) : undefined}
                    onPointerEnter={p.id ? () => hover(p.id) : undefined}
                    onPointerLeave={p.id ? () => hover(null) : undefined}
                  >
                    {s.drawn === 'bars' ? (
                      <rect
                        x={x(p.x) - column / 2 + offset}
                        width={column}
                        y={Math.min(y(p.y), y(0))}
                        height={Math.abs(y(p.y) - y(0))}
                        fill={colour(n)}
                      />
                    ) : s.drawn === 'levels' ? (
                      <path
                        d={`M${x(p.x) - levelHalf} ${y(p.y)}h${2 * levelHalf}`}
                        stroke={colour(n)}
                        strokeWidth={1.6}
                      />
                    ) : (
                      <circle cx={x(p.x)} cy={y(p.y)} r={2.4} fill={colour(n)} />
                    )}
                    {s.labels?.[i] && (
                      <text x={x(p.x)} y={y(p.y) - 5} textAnchor="middle" fill={theme.ink}>
                        {s.labels[i]}
                      </text>
                    )}
                    <title>{`${s.label}, ${p.word}: ${fixed(p.y, exact)} ${figure.y.unit ?? ''}`}</title>
                  </g>
                ),
              )}
              {figure.series.length > 1 && (
                <text x={size.width - RIGHT + 7} y={ends[n]! + 4} fill={colour(n)}>
                  {s.label}
                </text>
              )}
            </g>
          )
        })}
        {figure.x.linked && (
          <Elsewhere
            figure={figure}
            words={named ? words.map(Number) : null}
            x={x}
            bottom={size.height - BOTTOM}
          />
        )}
        {long && pointed !== null && <Pointer figure={figure} at={pointed} x={x} y={y} />}
      </svg>
    </Frame>
  )
}

/** The place that is pointed at in another plot of the same axis: a word only where it is near one. */
function Elsewhere(props: { figure: Figure; words: number[] | null; x: Scale; bottom: number }) {
  const theme = useTheme()
  const { figure, words, x } = props
  const told = useBench((s) => s.pointed)
  if (!told || told.axis !== figure.x.linked || told.by === figure.name) return null
  const value = told.value * (figure.x.per ?? 1)
  const [low = 0, high = 0] = x.range().map((r) => x.invert(r))
  let at = value
  if (words) {
    at = words.reduce((best, w, n) => (Math.abs(w - value) < Math.abs(words[best]! - value) ? n : best), 0)
    if (Math.abs(words[at]! - value) > 0.5 * (figure.x.per ?? 1)) return null
  } else if (value < low || value > high) return null
  return (
    <path
      data-testid="elsewhere"
      d={`M${x(at)} ${TOP}V${props.bottom}`}
      stroke={theme.ink}
      strokeWidth={1}
      pointerEvents="none"
    />
  )
}

/** What the curves are where the pointer is: the nearest point of each. */
function Pointer(props: { figure: Figure; at: number; x: Scale; y: (v: number) => number }) {
  const theme = useTheme()
  const { figure, x, y } = props
  const wanted = x.invert(props.at)
  const curves = figure.series.filter((s) => (s.drawn ?? 'line') === 'line')
  const found = curves.flatMap((s) => {
    let best = -1
    for (let i = 0; i < s.x.length; i++) {
      const v = s.x[i]
      if (
        isFigure(v) &&
        isFigure(s.y[i]) &&
        (best < 0 || Math.abs(v - wanted) < Math.abs((s.x[best] as number) - wanted))
      )
        best = i
    }
    return best < 0 ? [] : [{ x: s.x[best] as number, y: s.y[best] as number }]
  })
  const first = found[0]
  if (!first) return null
  const text = `${fixed(first.x, figure.x.digits ?? 1)} ${figure.x.unit ?? ''}: ${found
    .map((p) => fixed(p.y, figure.y.digits ?? 2))
    .join('; ')} ${figure.y.unit ?? ''}`
  return (
    <g pointerEvents="none" data-testid="pointed">
      <path d={`M${x(first.x)} ${TOP}V${y(first.y)}`} stroke={theme.quiet} strokeWidth={0.8} />
      {found.map((p) => (
        <circle key={p.y} cx={x(p.x)} cy={y(p.y)} r={3} fill={theme.ink} />
      ))}
      <text x={LEFT + 8} y={12} fill={theme.ink} dx={120}>
        {text}
      </text>
    </g>
  )
}

type Scale = ((v: number) => number) & { invert: (v: number) => number; range: () => number[] }

interface Point {
  readonly x: number | null
  readonly y: number | null | undefined
}

/** Powers of ten, with two and five between them where there are few. */
function decades([low = 1, high = 10]: readonly number[]): number[] {
  const found: number[] = []
  const few = Math.log10(high / low) < 3
  for (let e = Math.floor(Math.log10(low)); e <= Math.ceil(Math.log10(high)); e++)
    for (const m of few ? [1, 2, 5] : [1]) {
      const v = Number((m * 10 ** e).toPrecision(3))
      if (v >= low * 0.999 && v <= high * 1.001) found.push(v)
    }
  return found
}

/** A path that is broken where there is nothing. */
function pathOf(points: readonly Point[], x: (v: number) => number, y: (v: number) => number): string {
  let pen = false
  return points
    .map((p) => {
      if (!isFigure(p.x) || !isFigure(p.y)) {
        pen = false
        return ''
      }
      const step = `${pen ? 'L' : 'M'}${x(p.x).toFixed(1)} ${y(p.y).toFixed(1)}`
      pen = true
      return step
    })
    .join('')
}

/** Heights of the names at the ends, moved apart where they would cover each other, and up again from below the plot. */
function spreadOut(heights: readonly number[], lowest: number): number[] {
  const order = heights.map((_, i) => i).sort((a, b) => heights[a]! - heights[b]!)
  const found = [...heights]
  for (let k = 1; k < order.length; k++) {
    const above = found[order[k - 1]!]!
    if (found[order[k]!]! - above < 13) found[order[k]!] = above + 13
  }
  let below = lowest
  for (const k of order.toReversed()) {
    found[k] = Math.min(found[k]!, below)
    below = found[k]! - 13
  }
  return found
}
