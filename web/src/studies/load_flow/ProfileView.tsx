/** The profile: what the voltage (and more) does along a feeder. Moves with the sliders; hover links both ways. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { scaleLinear } from 'd3-scale'
import { useEffect, useMemo, useRef, useState } from 'react'
import styled, { useTheme } from 'styled-components'
import { feedersQuery, profileQuery } from '../../api/queries'
import { Pick, Plain } from '../../design/controls'
import { fixed } from '../../design/format'
import { font } from '../../design/tokens'
import { number } from '../../model/items'
import { PHASE_DASH, phaseColour, phaseName } from '../../model/phases'
import { usePrefs } from '../../model/prefs'
import {
  asCsv,
  inUnits,
  LENGTHS,
  type LengthUnit,
  type Overlay,
  overlaySeries,
  pathTo,
  perUnit,
  profiled,
  type Quantity,
  series,
  strands,
  type Tree,
  treeOf,
} from '../../model/quantities'
import { hasPhases } from '../../model/results'
import { pin } from '../../session/runs'
import { hover, select, useBench, useParts } from '../../session/store'
import { save, savePng } from '../../shelf/save'
import { useStudy } from '../useStudy'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%; min-height: 0;`
const Bar = styled.div`
  display: flex; flex-wrap: wrap; gap: 2px 5px; padding: 2px 12px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule}; overflow: hidden;
  .quiet { color: ${(p) => p.theme.quiet}; } .space { flex: 1; } button { white-space: nowrap; padding-left: 6px; padding-right: 6px; }
  button[aria-pressed] { border: none; background: transparent; padding: 2px 7px; min-height: 24px; border-radius: 4px; color: ${(p) => p.theme.quiet}; white-space: nowrap; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  /* Beside another view there is room for one row: it is moved sideways. */
  @container (max-width: 620px) { flex-wrap: nowrap; overflow-x: auto; scrollbar-width: thin; .space { display: none; } }
`
const Plots = styled.div`position: relative; min-height: 0; overflow: hidden; svg { display: block; } text { font: 400 11px ${font.mono}; }`
const Tip = styled.div`
  position: absolute; pointer-events: none; background: ${(p) => p.theme.panel}; border: 1px solid ${(p) => p.theme.rule}; border-radius: 5px;
  padding: 4px 8px; font-size: 12px; white-space: nowrap; b { font-weight: 500; } div { font: 400 11.5px ${font.mono}; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet};`

export function ProfileView() {
  const { project, revision, wiring, items, selected, result, pinned } = useParts(
    'project',
    'revision',
    'wiring',
    'items',
    'selected',
    'result',
    'pinned',
  )
  const [start, setStart] = useState<string | null>(null)
  const [shown, setShown] = useState<readonly string[]>([])
  const [unit, setUnit] = useState<LengthUnit>(LENGTHS[0]!)
  const { data: feeders } = useQuery({
    ...feedersQuery(project?.id ?? '', wiring),
    enabled: !!project,
    placeholderData: keepPreviousData,
  })
  const from = start ?? feederOfSelected(feeders?.feeders ?? [], selected) ?? feeders?.feeders[0]?.id ?? null
  const { data } = useQuery({
    ...profileQuery(project?.id ?? '', revision, from ?? ''),
    enabled: !!project && from !== null,
    placeholderData: keepPreviousData,
  })
  const [alone, setAlone] = useState(false)
  const [beside, setBeside] = useState(false)
  const overlays = useConditions(beside)
  const whole = useMemo(() => (data ? treeOf(data) : null), [data])
  const reached = selected && items.get(selected)?.kind === 'bus' ? selected : null
  const tree = useMemo(() => whole && (alone ? pathTo(whole, reached) : whole), [whole, alone, reached])
  const { units, way } = usePrefs()
  const known = profiled(result)
  const chosen = known.filter((q) => shown.includes(q.id))
  const drawn = chosen.length ? chosen : known.slice(0, 1)
  const quantities = drawn.map((q) => inUnits(q, units))
  const flip = (id: string) => {
    const now = drawn.map((q) => q.id)
    setShown(now.includes(id) ? now.filter((s) => s !== id || now.length === 1) : [...now, id])
  }
  const svg = useRef<SVGSVGElement>(null)
  const choices = (feeders?.feeders ?? []).map((f) => ({ id: f.id, label: f.name }))
  const bus = selected && items.get(selected)?.kind === 'bus' ? selected : null
  const own =
    bus && !choices.some((c) => c.id === bus) ? [{ id: bus, label: `from ${items.get(bus)?.name}` }] : []
  const csv = () =>
    tree &&
    save(
      `profile ${data?.name}.csv`,
      'text/csv',
      asCsv(tree, quantities, result, pinned?.result ?? null, unit, (b) => items.get(b)?.name ?? b, overlays),
    )
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Profile">
        <Pick label="Feeder" hideLabel value={from} choices={[...own, ...choices]} onChange={setStart} />
        {known.map((q) => (
          <button
            type="button"
            key={q.id}
            aria-pressed={drawn.some((d) => d.id === q.id)}
            onClick={() => flip(q.id)}
          >
            {q.label}
          </button>
        ))}
        <span className="space" />
        <button
          type="button"
          aria-pressed={alone}
          title="Only the way to the selected bus"
          onClick={() => setAlone(!alone)}
        >
          path
        </button>
        {(!hasPhases(result) || way === 'worst') && (
          <button
            type="button"
            aria-pressed={beside}
            title="Voltage and loading under every other condition as well"
            onClick={() => setBeside(!beside)}
          >
            all conditions
          </button>
        )}
        <Pick
          label="Length unit"
          hideLabel
          value={unit.id}
          choices={LENGTHS.map((l) => ({ id: l.id, label: l.id }))}
          onChange={(id) => setUnit(LENGTHS.find((l) => l.id === id) ?? LENGTHS[0]!)}
        />
        <Plain onPress={pin}>{pinned ? 'Unpin' : 'Pin'}</Plain>
        <Plain
          onPress={() =>
            svg.current && save(`profile ${data?.name}.svg`, 'image/svg+xml', svg.current.outerHTML)
          }
        >
          SVG
        </Plain>
        <Plain onPress={() => svg.current && void savePng(`profile ${data?.name}.png`, svg.current)}>
          PNG
        </Plain>
        <Plain onPress={csv}>CSV</Plain>
      </Bar>
      {tree && tree.bus.length > 1 ? (
        <Chart tree={tree} quantities={quantities} unit={unit} svg={svg} overlays={overlays} />
      ) : (
        <None>
          {from === null
            ? 'No feeder is recognised. Select a bus, and its profile is drawn from there.'
            : 'Nothing is fed from here: it is dead, or nothing leads on.'}
        </None>
      )}
    </Frame>
  )
}

/** Voltage and loading under the other conditions, solved when asked for and again when the network changes. */
function useConditions(wanted: boolean): readonly Overlay[] {
  const revision = useBench((s) => s.revision)
  const { run } = useStudy('sweep', 'profile')
  const [found, setFound] = useState<readonly Overlay[]>([])
  const work = useRef(run)
  work.current = run
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new revision asks anew
  useEffect(() => {
    if (!wanted) return setFound([])
    let current = true
    void work.current({ quantity: 'conditions', automatic: 'as_set' }).then((result) => {
      if (!current || !result) return
      const { items } = useBench.getState()
      const now = items.get(String(items.get('settings')?.condition))?.name
      const maps = (table: string) => {
        const [ids, , ...points] = result.tables[table]?.columns ?? []
        return new Map(
          points.map((c) => [
            c.label,
            new Map(
              (ids?.values ?? []).flatMap((id, i) =>
                typeof c.values?.[i] === 'number' ? [[String(id), c.values[i] as number] as const] : [],
              ),
            ),
          ]),
        )
      }
      const [volts, loads] = [maps('buses'), maps('branches')]
      const labels = [...volts.keys()].filter((l) => l !== now)
      setFound(
        labels.map((label) => ({
          label,
          voltage: volts.get(label)!,
          loading: loads.get(label) ?? new Map(),
        })),
      )
    })
    return () => {
      current = false
    }
  }, [wanted, revision])
  return found
}

function feederOfSelected(
  feeders: readonly { id: string; buses: readonly string[] }[],
  selected: string | null,
) {
  return selected ? feeders.find((f) => f.id === selected || f.buses.includes(selected))?.id : undefined
}

const STROKE: Readonly<Record<string, string | undefined>> = PHASE_DASH

const LEFT = 58
const RIGHT = 14
const TOP = 8
const BOTTOM = 20

interface ChartProps {
  readonly overlays: readonly Overlay[]
  readonly tree: Tree
  readonly quantities: readonly Quantity[]
  readonly unit: LengthUnit
  readonly svg: React.RefObject<SVGSVGElement | null>
}

function Chart({ tree, quantities, unit, svg, overlays }: ChartProps) {
  const theme = useTheme()
  const frame = useRef<HTMLDivElement>(null)
  const [size, setSize] = useState({ width: 600, height: 150 })
  const hovered = useBench((s) => s.hovered)
  useEffect(() => {
    const watch = new ResizeObserver(([entry]) => {
      if (entry) setSize({ width: entry.contentRect.width, height: entry.contentRect.height })
    })
    if (frame.current) watch.observe(frame.current)
    return () => watch.disconnect()
  }, [])
  const far = Math.max(...tree.km, 1e-6) * unit.perKm
  const x = scaleLinear()
    .domain([0, far])
    .range([LEFT, size.width - RIGHT])
  const at = tree.km.map((km) => x(km * unit.perKm))
  const each = (size.height - BOTTOM) / quantities.length
  const lit = hovered ? tree.bus.findIndex((b, i) => b === hovered || tree.element[i] === hovered) : -1
  const nearest = (event: React.PointerEvent) => {
    const px = event.nativeEvent.offsetX
    let best = -1
    at.forEach((p, i) => {
      if (best < 0 || Math.abs(p - px) < Math.abs(at[best]! - px)) best = i
    })
    return best
  }
  return (
    <Plots
      ref={frame}
      role="group"
      tabIndex={0}
      aria-label="Profile. Arrow keys go from bus to bus, Enter selects."
      onKeyDown={(e) => {
        const way = e.key === 'ArrowRight' ? 1 : e.key === 'ArrowLeft' ? -1 : 0
        if (way) hover(tree.bus[stepAlong(at, lit, way)] ?? null)
        else if (e.key === 'Enter' && tree.bus[lit]) select(tree.bus[lit], { reveal: true })
        else return
        e.preventDefault()
        e.stopPropagation()
      }}
    >
      <svg
        ref={svg}
        xmlns="http://www.w3.org/2000/svg"
        width={size.width}
        height={size.height}
        role="img"
        aria-label={`Profile of ${tree.bus.length} buses`}
        onPointerMove={(e) => hover(tree.bus[nearest(e)] ?? null)}
        onPointerLeave={() => hover(null)}
        onPointerUp={(e) => {
          const i = nearest(e)
          if (tree.bus[i]) select(tree.bus[i], { reveal: true })
        }}
      >
        <rect width={size.width} height={size.height} fill={theme.paper} />
        {quantities.map((q, n) => (
          <Plot
            key={q.id}
            {...{ tree, quantity: q, at, lit, overlays }}
            top={TOP + n * each}
            height={each - TOP - 4}
            width={size.width}
          />
        ))}
        {x.ticks(8).map((t) => (
          <text key={t} x={x(t)} y={size.height - 6} textAnchor="middle" fill={theme.quiet}>
            {t}
            {t === 0 ? ` ${unit.id}` : ''}
          </text>
        ))}
      </svg>
      {lit >= 0 && (
        <Detail tree={tree} row={lit} quantities={quantities} unit={unit} x={at[lit]!} width={size.width} />
      )}
    </Plots>
  )
}

/** The next bus to the right or left, by distance; from none, the first. */
function stepAlong(at: readonly number[], from: number, way: number): number {
  const order = at.map((_, i) => i).sort((a, b) => at[a]! - at[b]! || a - b)
  if (from < 0) return order[0] ?? 0
  const place = order.indexOf(from) + way
  return order[Math.min(Math.max(place, 0), order.length - 1)] ?? from
}

/** Above each plot stands its title, where no line of it comes; names of what is laid over it stand there too. */
const TITLE = 16
const OVERLAY = 132

interface PlotProps {
  readonly tree: Tree
  readonly overlays: readonly Overlay[]
  readonly quantity: Quantity
  readonly at: readonly number[]
  readonly lit: number
  readonly top: number
  readonly height: number
  readonly width: number
}

function Plot({ tree, quantity, at, lit, top, height, width, overlays }: PlotProps) {
  const theme = useTheme()
  const { result, pinned, items } = useParts('result', 'pinned', 'items')
  const names = usePrefs((p) => p.phaseNames)
  const drawn = strands(quantity, result, perUnit(quantity)).map((s) => ({
    name: s.name,
    now: series(tree, s.quantity, result),
    was: pinned ? series(tree, s.quantity, pinned.result) : [],
  }))
  const volts = quantity.declared?.scale === 'voltage'
  const limits = volts
    ? limitsAt(items, tree.bus[0] ?? '').map((l) => l * perUnit(quantity))
    : quantity.declared?.scale === 'loading'
      ? [100]
      : []
  const others = overlays.map((o) => ({
    label: o.label,
    values: overlaySeries(tree, quantity, o),
  }))
  const known = [
    ...drawn.flatMap((d) => [...d.now, ...d.was]),
    ...others.flatMap((o) => o.values),
    ...limits,
  ].filter((v): v is number => v !== undefined && Number.isFinite(v))
  if (!known.length) return null
  const low = volts ? Math.min(...known) : Math.min(0, ...known)
  const y = scaleLinear()
    .domain([low, Math.max(...known, low + 1e-6)])
    .nice()
    .range([top + height, top + TITLE])
  const ticks = y.ticks(Math.max(2, Math.min(5, Math.floor(height / 26))))
  const path = (values: readonly (number | undefined)[]) => outline(tree, quantity, at, values, y)
  return (
    <g>
      {ticks.map((t) => (
        <g key={t}>
          <path d={`M${LEFT} ${y(t)}H${width - RIGHT}`} stroke={theme.rule} strokeWidth={0.7} />
          <text x={LEFT - 6} y={y(t) + 4} textAnchor="end" fill={theme.quiet}>
            {fixed(t, volts ? (perUnit(quantity) > 1 ? 1 : 3) : t < 1 && t > 0 ? 2 : 0)}
          </text>
        </g>
      ))}
      <text x={LEFT} y={top + 10} fill={theme.quiet}>
        {quantity.label} {quantity.unit}
      </text>
      {limits.map((l) => (
        <path
          key={l}
          d={`M${LEFT} ${y(l)}H${width - RIGHT}`}
          stroke={theme.breach}
          strokeDasharray="6 4"
          strokeWidth={1}
        />
      ))}
      {others.map((o, n) => {
        const end = o.values.findLastIndex((v) => v !== undefined)
        const value = o.values[end]
        if (value === undefined) return null
        return (
          <g key={o.label} stroke="none">
            <path
              d={path(o.values)}
              fill="none"
              stroke={theme.feeders[(n + 1) % theme.feeders.length]}
              strokeWidth={1.2}
              strokeDasharray={['6 3', '2 3', '8 3 2 3'][n % 3]}
              data-testid="overlay"
            />
            <text
              x={width - RIGHT - 4 - OVERLAY * n}
              y={top + 10}
              textAnchor="end"
              fill={theme.feeders[(n + 1) % theme.feeders.length]}
            >
              {o.label}
            </text>
          </g>
        )
      })}
      {drawn.map((d) => {
        const dash = STROKE[d.name]
        const colour = (d.name && phaseColour(theme, d.name)) || theme.accent
        return (
          <g key={d.name} stroke="none">
            {pinned && (
              <path
                d={path(d.was)}
                fill="none"
                stroke={d.name ? colour : theme.quiet}
                strokeWidth={1}
                strokeDasharray={dash}
                opacity={d.name ? 0.45 : 0.7}
                data-testid="ghost"
              />
            )}
            <path
              d={path(d.now)}
              fill="none"
              stroke={colour}
              strokeWidth={1.8}
              strokeDasharray={dash}
              strokeLinejoin="round"
              data-testid="profile"
              data-phase={d.name || undefined}
            />
            {quantity.of === 'bus' &&
              d.now.map((v, i) =>
                v === undefined ? null : (
                  <circle key={tree.bus[i]} cx={at[i]} cy={y(v)} r={i === lit ? 4.5 : 2} fill={colour} />
                ),
              )}
            {d.name && drawn.length > 1 && (
              <text x={LEFT + 100 + 24 * drawn.indexOf(d)} y={top + 9} fill={colour}>
                {phaseName(d.name, names)}
              </text>
            )}
          </g>
        )
      })}
    </g>
  )
}

/** Slopes from bus to bus, or steps over the length of each branch. */
function outline(
  tree: Tree,
  quantity: Quantity,
  at: readonly number[],
  values: readonly (number | undefined)[],
  y: (value: number) => number,
): string {
  let d = ''
  tree.before.forEach((up, i) => {
    const v = values[i]
    if (up < 0 || v === undefined) return
    const w = quantity.of === 'bus' ? values[up] : v
    if (w !== undefined)
      d += `M${at[up]!.toFixed(1)} ${y(w).toFixed(1)}L${at[i]!.toFixed(1)} ${y(v).toFixed(1)}`
  })
  return d
}

/** The lowest and highest voltage allowed where the profile starts. */
function limitsAt(items: ReturnType<typeof useBench.getState>['items'], bus: string): number[] {
  const kv = number(items.get(bus), 'nominal_kv') ?? 0
  for (const i of items.values()) {
    if (i.kind !== 'voltage_limits') continue
    if (kv > (number(i, 'above_kv') ?? 0) && kv <= (number(i, 'up_to_kv') ?? 1500))
      return [number(i, 'low_breach_pu') ?? 0.94, number(i, 'high_breach_pu') ?? 1.06]
  }
  return [0.94, 1.06]
}

function Detail(props: {
  tree: Tree
  row: number
  quantities: readonly Quantity[]
  unit: LengthUnit
  x: number
  width: number
}) {
  const { tree, row, quantities, unit, x, width } = props
  const { items, result, pinned } = useParts('items', 'result', 'pinned')
  const names = usePrefs((p) => p.phaseNames)
  const bus = tree.bus[row]!
  const flip = x > width - 220
  return (
    <Tip style={{ top: 12, left: flip ? undefined : x + 12, right: flip ? width - x + 12 : undefined }}>
      <b>{items.get(bus)?.name}</b>
      <div>
        {fixed(tree.km[row]! * unit.perKm, unit.id === 'km' ? 2 : 0)} {unit.id}
      </div>
      {quantities
        .flatMap((whole) => strands(whole, result, perUnit(whole)))
        .map(({ name, quantity: q }) => {
          const v = series(tree, q, result)[row]
          const p = pinned ? series(tree, q, pinned.result)[row] : undefined
          if (v === undefined && name) return null
          return (
            <div key={q.id + name}>
              {name ? `${phaseName(name, names)} ` : ''}
              {fixed(v, q.digits)} {q.unit}
              {p !== undefined && v !== undefined ? ` (${v >= p ? '+' : ''}${fixed(v - p, q.digits)})` : ''}
            </div>
          )
        })}
    </Tip>
  )
}
