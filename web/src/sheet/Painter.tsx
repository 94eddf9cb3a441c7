/** The SVG painter: one focusable, testable shape per element. */
import { memo } from 'react'
import { useTheme } from 'styled-components'
import { PHASE_DASH } from '../model/phases'
import { beside, type Point, pathOf } from './geometry'
import { type Paint, strandsOf } from './paint'
import type { BranchShape, BusShape, HangShape } from './scene'
import { branchSymbols, hangSymbols } from './symbols'

export interface Shapes {
  readonly buses: readonly BusShape[]
  readonly branches: readonly BranchShape[]
  readonly hangs: readonly HangShape[]
}

interface Props {
  readonly shapes: Shapes
  readonly paint: Paint
  readonly symbolScale: number
  readonly showFlow: boolean
  /** Between the strands of a branch that is drawn phase by phase, in sheet units. */
  readonly apart?: number
  /** Dashes run along branches in the direction of the flow. */
  readonly animate: boolean
}

/** Everything but labels, selection and handles, in world coordinates. */
export const Painter = memo(function Painter({
  shapes,
  paint,
  symbolScale,
  showFlow,
  animate,
  apart = APART,
}: Props) {
  return (
    <g strokeLinejoin="round">
      {shapes.branches.map((b) => (
        <Branch
          key={b.id}
          shape={b}
          colour={paint.branch(b.id)}
          live={paint.live(b.id)}
          scale={symbolScale}
          flow={showFlow ? paint.flow(b.id) : 0}
          width={paint.width(b.id)}
          moving={animate ? paint.flow(b.id) : 0}
          strands={paint.strands(b.id)}
          apart={apart}
        />
      ))}
      {shapes.hangs.map((h) => (
        <Hang key={h.id} shape={h} live={paint.live(h.id)} scale={symbolScale} />
      ))}
      {shapes.buses.map((b) => (
        <Bar
          key={b.id}
          shape={b}
          colour={paint.bus(b.id)}
          live={paint.live(b.id)}
          strands={paint.strands(b.id)}
        />
      ))}
    </g>
  )
})

const APART = 3.2
const THIN = { vectorEffect: 'non-scaling-stroke' } as const

const Bar = memo(function Bar(props: { shape: BusShape; colour: string; live: boolean; strands: string }) {
  const { shape, colour, live } = props
  const theme = useTheme()
  const parts = live ? strandsOf(props.strands) : []
  const each = (2 * shape.half) / Math.max(parts.length, 1)
  const { x, y, half, upright } = shape
  const d = upright ? `M${x} ${y - half}V${y + half}` : `M${x - half} ${y}H${x + half}`
  return (
    <g data-id={shape.id} data-kind="bus" data-live={live}>
      <rect
        x={upright ? x - 8 : x - half}
        y={upright ? y - half : y - 8}
        width={upright ? 16 : 2 * half}
        height={upright ? 2 * half : 16}
        fill="transparent"
      />
      <path d={d} stroke="transparent" strokeWidth={16} {...THIN} fill="none" />
      <path d={d} stroke={live ? colour : theme.dead} strokeWidth={5.5} {...THIN} fill="none" />
      {parts.map(([phase, hue], n) => {
        const from = each * n - shape.half + (n ? 0.8 : 0)
        const to = each * (n + 1) - shape.half - (n < parts.length - 1 ? 0.8 : 0)
        const piece = upright ? `M${x} ${y + from}V${y + to}` : `M${x + from} ${y}H${x + to}`
        return (
          <path
            key={phase}
            data-strand={phase}
            d={piece}
            stroke={hue}
            strokeWidth={7}
            {...THIN}
            fill="none"
          />
        )
      })}
      {!live && <path d={d} stroke={theme.panel} strokeWidth={3} {...THIN} fill="none" />}
    </g>
  )
})

const Branch = memo(function Branch(props: {
  shape: BranchShape
  colour: string
  live: boolean
  scale: number
  flow: -1 | 0 | 1
  width: number
  moving: -1 | 0 | 1
  strands: string
  apart: number
}) {
  const theme = useTheme()
  const { shape, live, scale } = props
  const strands = live ? strandsOf(props.strands) : []
  // The first strand runs above the others, or left of them, along the longest piece.
  const first = shape.vertical === shape.forward ? -1 : 1
  const symbol = branchSymbols[shape.kind]
  const dead = !live
  const colour = dead ? theme.dead : props.colour
  const d = pathOf(shape.points)
  const turn = shape.vertical ? (shape.forward ? 0 : 180) : shape.forward ? -90 : 90
  return (
    <g
      data-id={shape.id}
      data-kind={shape.kind}
      data-live={live}
      stroke={colour}
      fill="none"
      strokeWidth={1.7 + 5 * props.width}
    >
      <path d={d} stroke="transparent" strokeWidth={14} {...THIN} />
      {strands.length > 1 ? (
        strands.map(([phase, hue], n) => (
          <path
            key={phase}
            data-strand={phase}
            d={pathOf(beside(shape.points, (n - (strands.length - 1) / 2) * -props.apart * first))}
            stroke={hue}
            strokeWidth={1.5}
            strokeDasharray={PHASE_DASH[phase]}
            {...THIN}
          />
        ))
      ) : (
        <path
          d={d}
          {...THIN}
          strokeDasharray={dead ? '2 4' : PHASE_DASH[strands[0]?.[0] ?? '']}
          stroke={strands[0]?.[1]}
        />
      )}
      {live && props.moving !== 0 && (
        <path
          d={d}
          {...THIN}
          className="running"
          stroke={theme.panel}
          strokeWidth={1.6}
          strokeDasharray="5 11"
          style={{ animationDirection: props.moving > 0 ? 'normal' : 'reverse' }}
        />
      )}
      {shape.stub && <path d={pathOf(shape.stub)} {...THIN} strokeDasharray="2 4" />}
      {shape.leg && <path d={pathOf(shape.leg)} {...THIN} strokeDasharray={dead ? '2 4' : undefined} />}
      {shape.stubNames.map(({ at }) => (
        <rect
          key={`${at.x} ${at.y}`}
          x={at.x - 3.5}
          y={at.y - 7}
          width={7}
          height={7}
          fill={theme.panel}
          {...THIN}
        />
      ))}
      {symbol && (
        <g
          transform={`translate(${shape.at.x} ${shape.at.y}) rotate(${turn + (shape.flipped ? 180 : 0)}) scale(${scale * shape.size})`}
        >
          <path d={`M0 ${-symbol.gap}V${symbol.gap}`} stroke={theme.panel} strokeWidth={5} {...THIN} />
          <circle r={14} fill="transparent" stroke="none" />
          <path d={symbol.path(shape)} {...THIN} />
        </g>
      )}
      {!symbol && live && props.flow !== 0 && shape.length > 34 && (
        <Chevron
          at={shape.at}
          vertical={shape.vertical}
          forward={shape.forward === props.flow > 0}
          scale={scale}
        />
      )}
    </g>
  )
})

function Chevron(props: { at: Point; vertical: boolean; forward: boolean; scale: number }) {
  const turn = (props.vertical ? 90 : 0) + (props.forward ? 0 : 180)
  return (
    <path
      d="M-3.5-4.5 3.5 0-3.5 4.5"
      {...THIN}
      strokeWidth={1.5}
      transform={`translate(${props.at.x} ${props.at.y}) rotate(${turn}) scale(${Math.min(props.scale, 1.5)})`}
    />
  )
}

const Hang = memo(function Hang({ shape, live, scale }: { shape: HangShape; live: boolean; scale: number }) {
  const theme = useTheme()
  const symbol = hangSymbols[shape.kind]
  const size = Math.min(scale, 1.6) * shape.size
  return (
    <g
      data-id={shape.id}
      data-kind={shape.kind}
      data-live={live}
      stroke={live ? theme.ink : theme.dead}
      fill="none"
      strokeWidth={1.3}
    >
      <path d={pathOf(shape.points)} {...THIN} strokeDasharray={live ? undefined : '2 4'} />
      <g transform={`translate(${shape.at.x} ${shape.at.y}) scale(${size} ${(shape.up ? -1 : 1) * size})`}>
        <rect x={-10} y={-4} width={20} height={26} fill="transparent" stroke="none" />
        {symbol && (
          <path
            d={symbol.path(shape)}
            fill={theme.panel}
            transform={symbol.lettered && shape.up ? 'translate(0 18) scale(1 -1)' : undefined}
          />
        )}
      </g>
    </g>
  )
})
