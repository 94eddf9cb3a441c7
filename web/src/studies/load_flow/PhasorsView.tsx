/** Voltage and current phasors of what is selected, tile by tile; the pinned result behind as ghosts. */
import { useMemo, useRef, useState } from 'react'
import styled, { useTheme } from 'styled-components'
import { Button, Pick, Plain } from '../../design/controls'
import { fixed } from '../../design/format'
import { font } from '../../design/tokens'
import { PHASE_DASH, phaseColour, phaseName } from '../../model/phases'
import { usePrefs } from '../../model/prefs'
import { hasPhases } from '../../model/results'
import { updateOrTell } from '../../session/queue'
import { pin } from '../../session/runs'
import { select, selection, useParts, useSettings } from '../../session/store'
import { save, savePng } from '../../shelf/save'
import { largest, largestOf, type Phasor, type Tile, tilesOf, tip } from './tiles'

const Frame = styled.div`display: grid; grid-template: auto minmax(0, 1fr) / minmax(0, 1fr); height: 100%; min-height: 0;`
const Bar = styled.div`
  display: flex; gap: 8px; padding: 2px 12px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap;
  .quiet { color: ${(p) => p.theme.quiet}; overflow: hidden; text-overflow: ellipsis; min-width: 0; } .space { flex: 1; }
`
const Scroll = styled.div`overflow: auto; min-height: 0; svg { display: block; } text { font: 400 11px ${font.mono}; } .head { font: 500 12px ${font.sans}; cursor: pointer; }`
const None = styled.div`padding: 16px; color: ${(p) => p.theme.quiet}; max-width: 620px; display: grid; gap: 10px; justify-items: start;`

const WIDE = 288
const TALL = 140
const RADIUS = 56
const MOST = 60

const SCALES = [
  { id: 'common', label: 'common scale' },
  { id: 'own', label: 'own scale' },
]
const NAMES = [
  { id: 'ABC', label: 'A B C' },
  { id: 'L123', label: 'L1 L2 L3' },
]

export function PhasorsView() {
  const { items, raw, pinned, selected, chosen } = useParts('items', 'raw', 'pinned', 'selected', 'chosen')
  const settings = useSettings()
  const { phaseNames: names, way } = usePrefs()
  const [scale, setScale] = useState('common')
  const svg = useRef<SVGSVGElement>(null)
  const theme = useTheme()
  // biome-ignore lint/correctness/useExhaustiveDependencies: the selection is read from the state
  const tiles = useMemo(() => {
    const found = selection()
      .flatMap((id) => items.get(id) ?? [])
      .slice(0, MOST)
    return tilesOf(found, items, raw, pinned?.raw ?? null, way)
  }, [items, raw, pinned, selected, chosen, way])
  if (!hasPhases(raw))
    return (
      <None>
        The balanced load flow has one phase for all three. Per phase, everything that is selected is drawn
        here.
        <Button
          onPress={() => settings && void updateOrTell(settings, { study: 'per_phase' }, 'Solve per phase')}
        >
          Solve per phase
        </Button>
      </None>
    )
  if (!tiles.length)
    return <None>Select one or several buses, branches, loads or plants: their phasors are drawn here.</None>
  const full = { voltage: largest(tiles, 'voltage'), current: largest(tiles, 'current') }
  const columns = Math.max(1, Math.min(tiles.length, 3))
  const width = columns * WIDE
  const height = Math.ceil(tiles.length / columns) * TALL
  const name = tiles.length === 1 ? tiles[0]!.name : `${tiles.length} phasors`
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Phasors">
        <Pick label="Scale" hideLabel value={scale} choices={SCALES} onChange={setScale} />
        <Pick
          label="Names of phases"
          hideLabel
          value={names}
          choices={NAMES}
          onChange={(n) => usePrefs.setState({ phaseNames: n as 'ABC' | 'L123' })}
        />
        <span className="quiet">
          {way === 'sequences' ? 'sequences' : 'voltage to neutral, neutral to earth'}; current (strong) with
          its voltage (thin)
          {pinned ? ` · pinned ${pinned.label} behind` : ''}
        </span>
        <span className="space" />
        <Plain onPress={pin}>{pinned ? 'Unpin' : 'Pin'}</Plain>
        <Plain onPress={() => svg.current && save(`${name}.svg`, 'image/svg+xml', svg.current.outerHTML)}>
          SVG
        </Plain>
        <Plain onPress={() => svg.current && void savePng(`${name}.png`, svg.current)}>PNG</Plain>
      </Bar>
      <Scroll tabIndex={0} role="region" aria-label="Phasors">
        <svg
          ref={svg}
          xmlns="http://www.w3.org/2000/svg"
          width={width}
          height={height}
          role="group"
          aria-label={`Phasors of ${name}`}
        >
          <rect width={width} height={height} fill={theme.paper} />
          {tiles.map((tile, i) => (
            <One
              key={tile.id}
              tile={tile}
              x={(i % columns) * WIDE}
              y={Math.floor(i / columns) * TALL}
              full={scale === 'common' ? full[tile.what] : largest([tile], tile.what)}
            />
          ))}
        </svg>
      </Scroll>
    </Frame>
  )
}

function One({ tile, x, y, full }: { tile: Tile; x: number; y: number; full: number }) {
  const theme = useTheme()
  const names = usePrefs((s) => s.phaseNames)
  const [lit, setLit] = useState<string | null>(null)
  const cx = RADIUS + 14
  const cy = TALL / 2 + 6
  return (
    <g transform={`translate(${x} ${y})`} data-testid="phasor-tile">
      <text
        className="head"
        x={cx + RADIUS + 12}
        y={20}
        fill={theme.ink}
        role="button"
        tabIndex={0}
        onClick={() => select(tile.id, { reveal: true })}
        onKeyDown={(e) => e.key === 'Enter' && select(tile.id, { reveal: true })}
      >
        {tile.name}
      </text>
      <g transform={`translate(${cx} ${cy})`}>
        <circle r={RADIUS} fill="none" stroke={theme.rule} />
        <circle r={RADIUS / 2} fill="none" stroke={theme.rule} strokeDasharray="2 3" />
        <path d={`M${-RADIUS} 0H${RADIUS}M0 ${-RADIUS}V${RADIUS}`} stroke={theme.rule} strokeWidth={0.7} />
        {tile.beside.map((v) => (
          <Arrow key={v.conductor} phasor={v} full={largestOf(tile.beside)} thin />
        ))}
        {tile.ghosts.map((g) => (
          <Arrow key={g.conductor} phasor={g} full={full} ghost />
        ))}
        {tile.arrows.map((a) => (
          <Arrow key={a.conductor} phasor={a} full={full} strong={lit === a.conductor} />
        ))}
      </g>
      {tile.arrows.map((a, i) => {
        const was = tile.ghosts.find((g) => g.conductor === a.conductor)
        return (
          <g
            key={a.conductor}
            transform={`translate(${cx + RADIUS + 12} ${40 + 17 * i})`}
            onPointerEnter={() => setLit(a.conductor)}
            onPointerLeave={() => setLit(null)}
          >
            <rect
              x={-4}
              y={-12}
              width={WIDE - cx - RADIUS - 14}
              height={17}
              fill={lit === a.conductor ? theme.accentWash : theme.paper}
            />
            <path
              d="M0-4H16"
              stroke={phaseColour(theme, a.conductor)}
              strokeWidth={2}
              strokeDasharray={PHASE_DASH[a.conductor]}
            />
            <text x={22} fill={theme.ink}>
              {phaseName(a.conductor, names)}
            </text>
            <text x={80} textAnchor="end" fill={theme.ink}>
              {fixed(a.size, tile.digits)}
            </text>
            <text x={136} textAnchor="end" fill={theme.quiet}>
              {fixed(a.angle, 1)}°
            </text>
            <title>
              {`${phaseName(a.conductor, names)} ${fixed(a.size, tile.digits)} ${tile.unit}, ${fixed(a.angle, 1)}°`}
              {was ? `; pinned ${fixed(was.size, tile.digits)} ${tile.unit}, ${fixed(was.angle, 1)}°` : ''}
            </title>
          </g>
        )
      })}
      <text x={cx + RADIUS + 12} y={40 + 17 * tile.arrows.length} fill={theme.quiet}>
        {tile.unit}; circle {fixed(full, tile.digits)}
      </text>
    </g>
  )
}

function Arrow({
  phasor,
  full,
  ghost,
  strong,
  thin,
}: {
  phasor: Phasor
  full: number
  ghost?: boolean
  strong?: boolean
  thin?: boolean
}) {
  const theme = useTheme()
  const { x, y } = tip(phasor, RADIUS, full)
  const colour = phaseColour(theme, phasor.conductor)
  const far = Math.hypot(x, y)
  const head = Math.min(thin ? 5 : 7, far)
  const back = far > 1e-6 ? { x: (x / far) * head, y: (y / far) * head } : { x: 0, y: 0 }
  return (
    <g
      opacity={ghost ? 0.6 : thin ? 0.75 : 1}
      data-testid={ghost ? 'phasor-ghost' : thin ? 'phasor-beside' : 'phasor'}
      data-conductor={phasor.conductor}
    >
      <path
        d={`M0 0L${x.toFixed(2)} ${y.toFixed(2)}`}
        stroke={colour}
        strokeWidth={ghost ? 1.3 : thin ? 0.9 : strong ? 3.2 : 2}
        strokeDasharray={thin ? undefined : PHASE_DASH[phasor.conductor]}
      />
      {!ghost && far > 3 && (
        <path
          d={`M${x} ${y}L${x - back.x - back.y * 0.5} ${y - back.y + back.x * 0.5}L${x - back.x + back.y * 0.5} ${y - back.y - back.x * 0.5}Z`}
          fill={thin ? 'none' : colour}
          stroke={thin ? colour : 'none'}
          strokeWidth={0.9}
        />
      )}
    </g>
  )
}
