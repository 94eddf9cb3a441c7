/** Curves of a sweep on one pair of axes; gaps where a point has no solution. */
import { scaleLinear } from 'd3-scale'
import { useEffect, useRef, useState } from 'react'
import styled, { useTheme } from 'styled-components'
import { fixed } from '../../design/format'
import { font } from '../../design/tokens'

export interface Curve {
  readonly name: string
  readonly dashed: boolean
  readonly second: boolean
  readonly points: readonly { readonly x: number; readonly label: string; readonly y: number | null }[]
}

const Frame = styled.div`height: 100%; svg { display: block; } text { font: 400 11px ${font.mono}; }`
const [LEFT, RIGHT, TOP, BOTTOM] = [54, 136, 10, 22]

export function SweepPlot({
  curves,
  unit,
  across,
}: {
  curves: readonly Curve[]
  unit: string
  across: string
}) {
  const theme = useTheme()
  const frame = useRef<HTMLDivElement>(null)
  const [size, setSize] = useState({ width: 460, height: 130 })
  useEffect(() => {
    const watch = new ResizeObserver(
      ([e]) => e && setSize({ width: e.contentRect.width, height: e.contentRect.height }),
    )
    if (frame.current) watch.observe(frame.current)
    return () => watch.disconnect()
  }, [])
  const all = curves.flatMap((c) => c.points)
  const ys = all.flatMap((p) => (p.y === null ? [] : [p.y]))
  const xs = all.map((p) => p.x)
  const x = scaleLinear()
    .domain([Math.min(...xs), Math.max(...xs, Math.min(...xs) + 1e-9)])
    .range([LEFT, size.width - RIGHT])
  const y = scaleLinear()
    .domain([Math.min(...ys), Math.max(...ys, Math.min(...ys) + 1e-9)])
    .nice()
    .range([size.height - BOTTOM, TOP])
  if (!ys.length) return <Frame ref={frame}>No point has a solution.</Frame>
  const digits = unit === 'p.u.' ? 3 : Math.max(...ys) < 10 ? 2 : 0
  const named = all.some((p) => p.label && !p.label.endsWith('%'))
  const first = curves[0]?.points ?? []
  const ends = spreadOut(
    curves.map((c) => {
      const p = c.points.findLast((q) => q.y !== null)
      return p ? y(p.y!) : 0
    }),
  )
  return (
    <Frame ref={frame}>
      <svg
        width={size.width}
        height={size.height}
        role="img"
        aria-label={`Sweep: ${curves.map((c) => c.name).join('; ')}`}
        data-testid="sweep-plot"
      >
        {y.ticks(5).map((t) => (
          <g key={t}>
            <path d={`M${LEFT} ${y(t)}H${size.width - RIGHT}`} stroke={theme.rule} strokeWidth={0.7} />
            <text x={LEFT - 6} y={y(t) + 4} textAnchor="end" fill={theme.quiet}>
              {fixed(t, digits)}
            </text>
          </g>
        ))}
        <text x={LEFT + 4} y={TOP + 8} fill={theme.quiet}>
          {unit}
        </text>
        {(named ? first : x.ticks(6).map((t) => ({ x: t, label: String(t) }))).map((p, i) => (
          <text
            key={p.label}
            x={x(p.x)}
            y={size.height - 6}
            textAnchor={i === 0 ? 'start' : 'middle'}
            fill={theme.quiet}
          >
            {p.label}
            {i === 0 && !named ? ` ${across}` : ''}
          </text>
        ))}
        {curves.map((c, n) => {
          const colour = c.second ? theme.feeders[1] : theme.accent
          let pen = false
          const d = c.points
            .map((p) => {
              if (p.y === null) {
                pen = false
                return ''
              }
              const step = `${pen ? 'L' : 'M'}${x(p.x).toFixed(1)} ${y(p.y).toFixed(1)}`
              pen = true
              return step
            })
            .join('')
          const end = c.points.findLast((p) => p.y !== null)
          return (
            <g key={`${c.name} ${c.second}`}>
              <path
                d={d}
                fill="none"
                stroke={colour}
                strokeWidth={1.8}
                strokeDasharray={c.dashed ? '5 4' : undefined}
              />
              {c.points.map((p) =>
                p.y === null ? null : (
                  <circle key={p.label} cx={x(p.x)} cy={y(p.y)} r={2.3} fill={colour}>
                    <title>{`${p.label}: ${fixed(p.y, digits + 1)} ${unit}`}</title>
                  </circle>
                ),
              )}
              {end && (
                <text x={x(end.x) + 7} y={ends[n]! + 4} fill={colour}>
                  {c.name}
                </text>
              )}
            </g>
          )
        })}
      </svg>
    </Frame>
  )
}

/** Heights of the names at the ends, moved apart where they would cover each other. */
function spreadOut(heights: readonly number[]): number[] {
  const order = heights.map((_, i) => i).sort((a, b) => heights[a]! - heights[b]!)
  const found = [...heights]
  for (let k = 1; k < order.length; k++) {
    const above = found[order[k - 1]!]!
    if (found[order[k]!]! - above < 13) found[order[k]!] = above + 13
  }
  return found
}
