/** Labels and marks of findings in a still picture of the sheet, in screen coordinates. */
import { useTheme } from 'styled-components'
import type { Finding } from '../api/client'
import { MarkShape } from '../design/Icon'
import { toScreen, type View } from './geometry'
import { inkOf, type Label } from './labels'
import type { Shapes } from './Painter'
import type { Paint } from './paint'

export function Lettering({ labels }: { labels: readonly Label[] }) {
  const theme = useTheme()
  // The ground behind the letters first, then the letters: not every program knows the order of paint.
  return (
    <>
      {[true, false].map((ground) => (
        <g key={String(ground)}>
          {labels.map((l) => (
            <text
              key={l.key}
              className="figure"
              x={l.x}
              y={l.y}
              textAnchor={l.anchor}
              fill={ground ? theme.panel : inkOf(theme, l)}
              stroke={ground ? theme.panel : 'none'}
              strokeWidth={ground ? 3.5 : 0}
              strokeLinejoin="round"
            >
              {l.name && (
                <tspan className="name" fill={ground ? theme.panel : theme.ink}>
                  {l.name}
                </tspan>
              )}
              {l.name && l.value ? ' ' : ''}
              {l.value}
            </text>
          ))}
        </g>
      ))}
    </>
  )
}

export function Marks({ shapes, paint, view }: { shapes: Shapes; paint: Paint; view: View }) {
  const theme = useTheme()
  const spots = [
    ...shapes.branches.map((b) => ({
      id: b.id,
      at: b.at,
      dx: b.kind === 'line' ? -9 : -36,
      dy: b.kind === 'line' ? 5 : -8,
    })),
    ...shapes.buses.map((b) => ({
      id: b.id,
      at: b.upright ? b : { x: b.x - b.half, y: b.y },
      dx: b.upright ? 6 : -21,
      dy: b.upright ? -17 : -7,
    })),
  ].flatMap((s) => {
    const finding: Finding | undefined = paint.finding(s.id)
    return finding ? [{ ...s, finding }] : []
  })
  return (
    <g>
      {spots.map(({ id, at, dx, dy, finding }) => {
        const p = toScreen(view, at)
        return (
          <g
            key={id}
            transform={`translate(${p.x + dx} ${p.y + dy}) scale(0.8)`}
            fill={finding.severity === 'breach' ? theme.breach : theme.watch}
          >
            <MarkShape severity={finding.severity} direction={finding.direction} />
          </g>
        )
      })}
    </g>
  )
}
