/** Cells over words both ways, coloured by a figure, those beyond a limit framed; a cell selects its element. */
import { scaleLinear } from 'd3-scale'
import { useContext, useMemo, useRef, useState } from 'react'
import styled, { useTheme } from 'styled-components'
import type { components } from '../api/schema'
import { fixed } from '../design/format'
import { font } from '../design/tokens'
import { hover, select } from '../session/store'
import { CellTaken } from './cells'
import { LETTER, PlotActs, shortened, useSize } from './plotFrame'

const Frame = styled.div`
  height: 100%; min-height: 90px; position: relative; overflow: auto; svg { display: block; } text { font: 400 11px ${font.mono}; }
  svg[data-choosable] { cursor: pointer; }
`
const [TOP, BOTTOM, RIGHT] = [26, 24, 12]
/** Least height of a row with a name, how much of the width names may take, and steps of colour. */
const [ROW, MOST_NAMES, STEPS] = [14, 0.3, 24]

const WAYS: Record<string, readonly [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, -1],
  ArrowDown: [0, 1],
}

interface Cell {
  readonly x: number
  readonly y: number
  readonly z: number
  readonly id: string | null
}

export function CellPlot({ figure }: { figure: components['schemas']['FigureOut'] }) {
  const theme = useTheme()
  const taken = useContext(CellTaken)
  const { frame, size } = useSize()
  const drawing = useRef<SVGSVGElement>(null)
  const [pointed, setPointed] = useState<Cell | null>(null)
  const { across, down, cells, at } = useMemo(() => gathered(figure), [figure])
  if (!cells.length) return <Frame ref={frame}>Nothing is near a limit.</Frame>
  const longest = Math.max(0, ...down.map((w) => w.length))
  const left = Math.min(longest * LETTER + 10, size.width * MOST_NAMES)
  const room = Math.max(size.height - TOP - BOTTOM, 20)
  // Few rows are named and keep their height, so that the plot may have to be scrolled; many share what there is.
  const many = down.length > 60 || /^\d\d:\d\d$/.test(down[0] ?? '')
  const tall = many ? room / down.length : Math.max(room / down.length, ROW)
  const rowHeight = Math.min(tall, 26)
  const wide = Math.max(size.width - left - RIGHT, 40) / across.length
  const height = TOP + rowHeight * down.length + BOTTOM
  const zs = cells.map((c) => c.z)
  const [low, high] = [Math.min(...zs), Math.max(...zs, Math.min(...zs) + 1e-9)]
  // Nothing but yes and no: bars of what is so, without a scale.
  const plain = figure.z?.unit === 'yes or no'
  const limit = figure.bounds?.find((b) => b.across === 'z')?.value
  const colour = scaleLinear<string>()
    .domain([0, 1, 2, 3].map((i) => low + ((high - low) * i) / 3))
    .range(theme.loading)
  const path = (chosen: readonly Cell[], gap: number) =>
    chosen
      .map(
        (c) =>
          `M${(left + c.x * wide).toFixed(1)} ${(TOP + c.y * rowHeight).toFixed(1)}h${(wide - gap).toFixed(1)}v${(rowHeight - gap).toFixed(1)}h${(gap - wide).toFixed(1)}z`,
      )
      .join('')
  const bars = (chosen: readonly Cell[]) =>
    chosen
      .map(
        (c) =>
          `M${(left + c.x * wide).toFixed(1)} ${(TOP + (c.y + 0.22) * rowHeight).toFixed(1)}h${(wide + 0.3).toFixed(1)}v${(0.56 * rowHeight).toFixed(1)}h${(-wide - 0.3).toFixed(1)}z`,
      )
      .join('')
  const gap = wide > 5 && rowHeight > 5 ? 1 : 0
  const step = (z: number) => Math.min(STEPS - 1, Math.floor(((z - low) / (high - low)) * STEPS))
  const everyX = Math.max(
    1,
    Math.ceil((Math.min(Math.max(...across.map((w) => w.length)), 9) * LETTER + 8) / wide),
  )
  const everyY = Math.max(1, Math.ceil(ROW / rowHeight))
  const exact = figure.z?.digits ?? 1
  const find = (e: { clientX: number; clientY: number; currentTarget: Element }) => {
    const box = e.currentTarget.getBoundingClientRect()
    const column = Math.floor((e.clientX - box.left - left) / wide)
    const row = Math.floor((e.clientY - box.top - TOP) / rowHeight)
    return at.get(row * across.length + column) ?? null
  }
  const take = (c: Cell | null) => {
    if (!c || taken?.(figure.name, across[c.x] ?? '', down[c.y] ?? '')) return
    if (c.id) select(c.id, { reveal: true })
  }
  const told = pointed
    ? `${down[pointed.y]}, ${across[pointed.x]}: ${plain ? (pointed.z ? 'yes' : 'no') : `${fixed(pointed.z, exact)} ${figure.z?.unit ?? ''}`}`
    : `${figure.z?.label ?? figure.label} ${plain ? '' : (figure.z?.unit ?? '')}`
  return (
    <Frame ref={frame}>
      <PlotActs figure={figure} drawing={drawing} />
      <svg
        ref={drawing}
        width={size.width}
        height={height}
        role="img"
        aria-label={`${figure.label}: ${figure.y.label} by ${figure.x.label}`}
        data-testid={`figure-${figure.name}`}
        data-choosable={cells.some((c) => c.id) || taken ? true : undefined}
        onPointerMove={(e) => {
          const found = find(e)
          if (found === pointed) return
          setPointed(found)
          hover(found?.id ?? null)
        }}
        onPointerLeave={() => {
          setPointed(null)
          hover(null)
        }}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: arrows go from cell to cell
        tabIndex={0}
        onKeyDown={(e) => {
          if (e.key === 'Enter') return take(pointed)
          const [dx, dy] = WAYS[e.key] ?? [0, 0]
          if (!dx && !dy) return
          e.preventDefault()
          const next = nextCell(cells, pointed, dx, dy)
          if (!next) return
          setPointed(next)
          hover(next.id)
        }}
        onClick={(e) => take(find(e))}
      >
        <text x={4} y={14} fill={pointed ? theme.ink : theme.quiet}>
          {shortened(told, size.width - 240)}
        </text>
        {!plain && (
          <Key
            colour={colour}
            low={low}
            high={high}
            right={size.width - 110}
            digits={exact > 1 ? exact : 0}
          />
        )}
        {down.map((w, n) =>
          n % everyY ? null : (
            <text
              key={w}
              x={left - 6}
              y={TOP + (n + 0.5) * rowHeight + 4}
              textAnchor="end"
              fill={theme.quiet}
            >
              {shortened(w, left - 6)}
            </text>
          ),
        )}
        {plain && (
          <>
            {down.map((w, n) => (
              <path
                key={w}
                d={`M${left} ${TOP + (n + 0.5) * rowHeight}h${wide * across.length}`}
                stroke={theme.rule}
              />
            ))}
            <path d={bars(cells.filter((c) => c.z === 1))} fill={theme.accent} />
          </>
        )}
        {Array.from({ length: plain ? 0 : STEPS }, (_, s) => {
          const mine = cells.filter((c) => step(c.z) === s)
          const key = `step ${s}`
          return mine.length ? (
            <path key={key} d={path(mine, gap)} fill={colour(low + ((s + 0.5) * (high - low)) / STEPS)} />
          ) : null
        })}
        {limit !== undefined && wide > 6 && (
          <path
            d={path(
              cells.filter((c) => c.z > limit),
              gap,
            )}
            fill="none"
            stroke={theme.ink}
            strokeWidth={1.2}
          />
        )}
        {pointed && <path d={path([pointed], gap)} fill="none" stroke={theme.accent} strokeWidth={2} />}
        {across.map((w, n) =>
          n % everyX ? null : (
            <text
              key={w}
              x={left + (n + 0.5) * wide}
              y={height - BOTTOM + 14}
              textAnchor="middle"
              fill={theme.quiet}
            >
              {shortened(w, wide * everyX)}
            </text>
          ),
        )}
      </svg>
    </Frame>
  )
}

/** The nearest cell in a direction; the first one where none is pointed at yet. */
function nextCell(cells: readonly Cell[], from: Cell | null, dx: number, dy: number): Cell | null {
  if (!from) return cells[0] ?? null
  const far = (c: Cell) => {
    const [along, aside] = dx ? [(c.x - from.x) * dx, c.y - from.y] : [(c.y - from.y) * dy, c.x - from.x]
    return along > 0 ? along + 3 * Math.abs(aside) : Number.POSITIVE_INFINITY
  }
  let best: Cell | null = null
  for (const c of cells) if (far(c) < (best ? far(best) : Number.POSITIVE_INFINITY)) best = c
  return best
}

/** The scale of the colours. */
function Key(props: {
  colour: (z: number) => string
  low: number
  high: number
  right: number
  digits: number
}) {
  const theme = useTheme()
  const { colour, low, high, right, digits } = props
  const at = right - 110
  return (
    <g>
      {Array.from({ length: 12 }, (_, k) => (
        <rect
          // biome-ignore lint/suspicious/noArrayIndexKey: a step of the scale is its number
          key={k}
          x={at + 36 + k * 3}
          y={6}
          width={3.2}
          height={8}
          fill={colour(low + ((k + 0.5) * (high - low)) / 12)}
        />
      ))}
      <text x={at + 32} y={14} textAnchor="end" fill={theme.quiet}>
        {fixed(low, digits)}
      </text>
      <text x={at + 76} y={14} fill={theme.quiet}>
        {fixed(high, digits)}
      </text>
    </g>
  )
}

/** Words along both axes in the order in which they come, and the cells; of two at one place the larger one. */
function gathered(figure: components['schemas']['FigureOut']) {
  const across: string[] = []
  const down: string[] = []
  const [placeX, placeY] = [new Map<string, number>(), new Map<string, number>()]
  const place = (words: string[], known: Map<string, number>, word: string) => {
    const found = known.get(word)
    if (found !== undefined) return found
    known.set(word, words.length)
    words.push(word)
    return words.length - 1
  }
  const met: Cell[] = []
  for (const s of figure.series)
    s.x.forEach((x, i) => {
      const z = s.z?.[i]
      const y = s.y[i]
      if (x === null || y === null || y === undefined) return
      // Words without a figure stand for the order in which they are wanted.
      const at = { x: place(across, placeX, String(x)), y: place(down, placeY, String(y)) }
      if (typeof z === 'number') met.push({ ...at, z, id: s.elements?.[i] ?? null })
    })
  const at = new Map<number, Cell>()
  for (const c of met) {
    const key = c.y * across.length + c.x
    const before = at.get(key)
    if (!before || before.z < c.z) at.set(key, c)
  }
  return { across, down, cells: [...at.values()], at }
}
