/** The sheet as a picture of its own: drawn whole or as seen, with its legend and a title, in plain SVG. */
import { useTheme } from 'styled-components'
import { Backdrop, Places } from '../../sheet/Geography'
import type { View } from '../../sheet/geometry'
import { Lettering, Marks } from '../../sheet/Lettering'
import type { Label } from '../../sheet/labels'
import type { Backdrop as Map_ } from '../../sheet/mapScene'
import { Painter, type Shapes } from '../../sheet/Painter'
import type { Paint } from '../../sheet/paint'

export interface Scale {
  readonly stops: readonly string[]
  readonly ends: readonly string[]
}

export interface PictureProps {
  readonly shapes: Shapes
  readonly paint: Paint
  readonly labels: readonly Label[]
  readonly view: View
  readonly width: number
  readonly height: number
  readonly backdrop: Map_ | null
  readonly surface: string | null
  readonly scales: readonly Scale[]
  readonly title: readonly string[]
  /** Fonts and text styles, as a style sheet. */
  readonly style: string
}

const FOOT = 46

export function SheetPicture(props: PictureProps) {
  const theme = useTheme()
  const { shapes, paint, labels, view, width, height, backdrop, surface, scales, title } = props
  const whole = height + FOOT
  return (
    <svg
      xmlns="http://www.w3.org/2000/svg"
      viewBox={`0 0 ${width} ${whole}`}
      width={width}
      height={whole}
      fontFamily="IBM Plex Sans"
    >
      <title>{title[0] || 'Sheet'}</title>
      <style>{props.style}</style>
      <rect width={width} height={whole} fill={theme.panel} />
      <g transform={`translate(${view.x} ${view.y}) scale(${view.k})`}>
        {backdrop && <Backdrop map={backdrop} />}
      </g>
      {surface && <image href={surface} width={width} height={height} preserveAspectRatio="none" />}
      <g transform={`translate(${view.x} ${view.y}) scale(${view.k})`}>
        <Painter shapes={shapes} paint={paint} symbolScale={1} showFlow animate={false} />
      </g>
      {backdrop && <Places map={backdrop} view={view} labels={labels} buses={shapes.buses} />}
      <Lettering labels={labels} />
      <Marks shapes={shapes} paint={paint} view={view} />
      <g transform={`translate(16 ${height + 8})`}>
        <path d={`M0 0H${width - 32}`} stroke={theme.ink} strokeWidth={0.8} />
        <text className="name" y={16} fill={theme.ink}>
          {title[0]}
        </text>
        <text className="figure" y={31} fill={theme.quiet}>
          {title.slice(1).join(' · ')}
        </text>
        {scales.map((s, i) => (
          <Ramp key={s.ends.join()} scale={s} x={width - 32 - (scales.length - i) * 170} n={i} />
        ))}
      </g>
    </svg>
  )
}

function Ramp({ scale, x, n }: { scale: Scale; x: number; n: number }) {
  const theme = useTheme()
  const id = `ramp-${n}`
  return (
    <g transform={`translate(${x} 10)`}>
      <linearGradient id={id}>
        {scale.stops.map((c, i) => (
          <stop key={c} offset={i / (scale.stops.length - 1)} stopColor={c} />
        ))}
      </linearGradient>
      <rect width={150} height={6} fill={`url(#${id})`} />
      {scale.ends.map((e, i) => (
        <text
          key={e}
          className="figure"
          x={(150 * i) / (scale.ends.length - 1)}
          y={19}
          textAnchor={i === 0 ? 'start' : i === scale.ends.length - 1 ? 'end' : 'middle'}
          fill={theme.quiet}
        >
          {e}
        </text>
      ))}
    </g>
  )
}
