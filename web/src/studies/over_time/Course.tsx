/** The course of the steps: a stretch of the whole time is brushed below, and seen large with what it comes to above. */
import { useMemo, useRef, useState } from 'react'
import styled, { useTheme } from 'styled-components'
import { Pick, Plain } from '../../design/controls'
import { fixed } from '../../design/format'
import { useKept } from '../../session/kept'
import { tryMoment } from '../../session/live'
import { type Figure, FigurePlot } from '../../shelf/FigurePlot'
import { useSize } from '../../shelf/plotFrame'
import type { StudyResult } from '../useStudy'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(110px, 1fr) 52px; min-height: 0; height: 100%; overflow-y: auto; padding: 2px 10px;`
const Line = styled.div`
  display: flex; flex-wrap: wrap; gap: 0 8px; align-items: center; font-variant-numeric: tabular-nums;
  > button { padding: 0 6px; height: 24px; }
  > span { color: ${(p) => p.theme.quiet}; } b { font-weight: 500; color: ${(p) => p.theme.ink}; }
`
const Strip = styled.div`
  position: relative; touch-action: none; cursor: crosshair; svg { display: block; }
  input { position: absolute; bottom: 0; width: 50%; height: 24px; margin: 0; opacity: 0; pointer-events: none; }
  input:focus-visible + output { outline: 2px solid ${(p) => p.theme.accent}; }
  input:nth-of-type(2) { right: 0; }
`
/** No more points than can be told apart: of each group the highest and the lowest stay. */
const MOST_POINTS = 600

type Kind = 'worst_pct' | 'voltages' | 'power' | 'losses_mw'
const KINDS: readonly { id: Kind; label: string }[] = [
  { id: 'worst_pct', label: 'Highest loading' },
  { id: 'voltages', label: 'Lowest and highest voltage' },
  { id: 'power', label: 'Demand and generation' },
  { id: 'losses_mw', label: 'Losses' },
]
const SERIES: Readonly<Record<Kind, readonly [string, string][]>> = {
  worst_pct: [['worst_pct', 'highest loading']],
  voltages: [
    ['lowest_pu', 'lowest'],
    ['highest_pu', 'highest'],
  ],
  power: [
    ['demand_mw', 'demand'],
    ['generation_mw', 'generation'],
  ],
  losses_mw: [['losses_mw', 'losses']],
}
const AXES: Readonly<Record<Kind, { label: string; unit: string; digits: number }>> = {
  worst_pct: { label: 'Highest loading', unit: '%', digits: 1 },
  voltages: { label: 'Voltage', unit: 'p.u.', digits: 4 },
  power: { label: 'Power', unit: 'MW', digits: 2 },
  losses_mw: { label: 'Losses', unit: 'MW', digits: 3 },
}

type Values = readonly (number | null)[]

/** Places of a stretch that are drawn: all, or of each group its lowest and highest. */
function thinned(values: Values, from: number, to: number): number[] {
  const count = to - from + 1
  if (count <= MOST_POINTS) return Array.from({ length: count }, (_, k) => from + k)
  const found: number[] = []
  const group = (2 * count) / MOST_POINTS
  for (let g = 0; g * group < count; g++) {
    const [a, b] = [from + Math.floor(g * group), Math.min(to, from + Math.ceil((g + 1) * group) - 1)]
    let [low, high] = [a, a]
    for (let k = a; k <= b; k++) {
      if ((values[k] ?? Infinity) < (values[low] ?? Infinity)) low = k
      if ((values[k] ?? -Infinity) > (values[high] ?? -Infinity)) high = k
    }
    found.push(...[...new Set([low, high])].sort((p, q) => p - q))
  }
  return found
}

export function Course({ result }: { result: StudyResult }) {
  const columns = result.tables.steps?.columns ?? []
  const of = (name: string) => (columns.find((c) => c.name === name)?.values ?? []) as Values
  const begins = (columns.find((c) => c.name === 'begins')?.values ?? []) as string[]
  const [kind, setKind] = useKept<Kind>('course of steps', 'worst_pct')
  const [chosen, setChosen] = useState<readonly [number, number] | null>(null)
  const last = begins.length - 1
  const [from, to] = chosen ?? [0, last]
  const hours = useMemo(() => spacing(begins), [begins])
  if (last < 1) return <Frame>There are too few steps to show their course.</Frame>
  const axis = AXES[kind]
  const figure: Figure = {
    name: 'course',
    label: axis.label,
    x: { label: 'Days', unit: null, digits: 2 } as Figure['x'],
    y: axis as Figure['y'],
    series: SERIES[kind].map(([name, label]) => {
      const places = thinned(of(name), from, to)
      const values = of(name)
      return {
        name,
        label,
        x: places.map((k) => (k * hours) / 24),
        y: places.map((k) => values[k] ?? null),
        drawn: 'line',
      }
    }),
    bounds: kind === 'worst_pct' ? [{ label: 'allowed', value: 100, across: 'y' }] : [],
  }
  const sum = (name: string) => {
    const values = of(name)
    let total = 0
    for (let k = from; k <= to; k++) total += values[k] ?? 0
    return total * hours
  }
  const [used, broken] = [of('worst_pct'), of('broken')]
  let [worst, outside] = [from, 0]
  for (let k = from; k <= to; k++) {
    if ((used[k] ?? -1) > (used[worst] ?? -1)) worst = k
    if ((broken[k] ?? 0) > 0) outside += hours
  }
  const energy = (name: string) => fixed(sum(name), 1)
  return (
    <Frame>
      <Line>
        <Pick
          label="Course of"
          hideLabel
          value={kind}
          choices={[...KINDS]}
          onChange={(k) => setKind(k as Kind)}
        />
        <span data-testid="stretch">
          <b>{begins[from]}</b> to <b>{begins[to]}</b>
        </span>
        <span>
          demand <b>{energy('demand_mw')}</b> MWh, lost <b>{energy('losses_mw')}</b>;{' '}
          <b>{fixed(outside, hours < 1 ? 2 : 0)}</b> h beyond limits
        </span>
        <Plain onPress={() => tryMoment((begins[worst] ?? '').replace(' ', 'T'))}>Show the worst</Plain>
        {chosen && <Plain onPress={() => setChosen(null)}>All</Plain>}
      </Line>
      <FigurePlot figure={figure} />
      <Brush values={of(SERIES[kind][0]?.[0] ?? '')} begins={begins} chosen={chosen} onChange={setChosen} />
    </Frame>
  )
}

/** Hours between two steps. */
function spacing(begins: readonly string[]): number {
  const at = (n: number) => Date.parse(`${(begins[n] ?? '').replace(' ', 'T')}Z`)
  return begins.length > 1 ? (at(1) - at(0)) / 3_600_000 : 1
}

interface BrushProps {
  readonly values: Values
  readonly begins: readonly string[]
  readonly chosen: readonly [number, number] | null
  readonly onChange: (chosen: readonly [number, number] | null) => void
}

/** The whole time small: a stretch is drawn over it with the pointer, or its ends are moved with the arrow keys. */
function Brush({ values, begins, chosen, onChange }: BrushProps) {
  const theme = useTheme()
  const { frame, size } = useSize()
  const anchor = useRef<number | null>(null)
  const last = values.length - 1
  const at = (px: number) => Math.round(Math.min(Math.max(px / Math.max(size.width, 1), 0), 1) * last)
  const x = (n: number) => (n / last) * size.width
  const places = thinned(values, 0, last)
  const known = places.map((k) => values[k]).filter((v): v is number => typeof v === 'number')
  const [low, high] = [Math.min(...known), Math.max(...known)]
  const y = (v: number) => 46 - (40 * (v - low)) / Math.max(high - low, 1e-9)
  const path = places
    .flatMap((k) => (typeof values[k] === 'number' ? [`${x(k).toFixed(1)} ${y(values[k]).toFixed(1)}`] : []))
    .join('L')
  const [from, to] = chosen ?? [0, last]
  const keep = (a: number, b: number) => {
    const [p, q] = [Math.min(a, b), Math.max(a, b)]
    onChange(q - p < 2 ? null : [p, q])
  }
  const ends: readonly [string, number, (to: number) => void][] = [
    ['Stretch begins', from, (n) => keep(Math.min(n, to - 2), to)],
    ['Stretch ends', to, (n) => keep(from, Math.max(n, from + 2))],
  ]
  const here = (e: React.PointerEvent) => at(e.clientX - e.currentTarget.getBoundingClientRect().left)
  return (
    <Strip
      ref={frame}
      onPointerDown={(e) => {
        anchor.current = here(e)
        e.currentTarget.setPointerCapture(e.pointerId)
      }}
      onPointerMove={(e) => anchor.current !== null && keep(anchor.current, here(e))}
      onPointerUp={() => {
        anchor.current = null
      }}
    >
      <svg width={size.width} height={50} aria-hidden="true">
        <rect width={size.width} height={50} fill={theme.panel} />
        {chosen && (
          <rect x={x(from)} width={Math.max(x(to) - x(from), 2)} height={50} fill={theme.accentWash} />
        )}
        <path d={`M${path}`} fill="none" stroke={theme.quiet} strokeWidth={0.8} />
        {chosen && <path d={`M${x(from)} 0V50M${x(to)} 0V50`} stroke={theme.accent} strokeWidth={2} />}
      </svg>
      {ends.map(([label, value, move]) => (
        <input
          key={label}
          type="range"
          aria-label={label}
          aria-valuetext={begins[value]}
          min={0}
          max={last}
          value={value}
          onChange={(e) => move(Number(e.currentTarget.value))}
        />
      ))}
    </Strip>
  )
}
