/** Grow handles on the selected bus: one gesture adds something that arrives connected. */
import { useQuery } from '@tanstack/react-query'
import { Button, Tooltip, TooltipTrigger } from 'react-aria-components'
import styled from 'styled-components'
import { vocabularyQuery } from '../../api/queries'
import { grow } from '../session'
import { useBench } from '../store'
import { toScreen, type View } from './geometry'
import type { Scene } from './scene'
import { branchSymbols, hangSymbols } from './symbols'

const Strip = styled.div`
  position: absolute; display: flex; align-items: center; gap: 3px; padding: 3px 3px 3px 10px; border-radius: 17px; z-index: 2;
  background: ${(p) => p.theme.panel}; border: 1px solid ${(p) => p.theme.accent}; transform: translateX(-50%);
  font-size: 12px; color: ${(p) => p.theme.quiet}; white-space: nowrap;
`
const Handle = styled(Button)`
  width: 28px; height: 28px; border-radius: 50%; border: none; background: transparent; color: ${(p) => p.theme.accent}; padding: 0;
  &[data-hovered] { background: ${(p) => p.theme.accentWash}; }
  &[data-pressed] { background: ${(p) => p.theme.accent}; color: ${(p) => p.theme.onAccent}; }
  svg { display: block; margin: auto; }
`
const Tip = styled(Tooltip)`
  background: ${(p) => p.theme.ink}; color: ${(p) => p.theme.panel}; padding: 4px 8px; border-radius: 4px; font-size: 12px;
`

export function GrowHandles({
  scene,
  view,
  size,
}: {
  scene: Scene
  view: View
  size: { width: number; height: number }
}) {
  const id = useBench((s) => s.selected)
  const shoots = useQuery(vocabularyQuery).data?.shoots ?? []
  const bus = scene.busById.get(id ?? '')
  if (!bus || !id) return null
  const p = toScreen(view, { x: bus.x, y: bus.y + (bus.upright ? bus.half : 0) })
  const half = 135
  const left = Math.min(Math.max(p.x, half), size.width - half)
  const room = p.y + 66 < size.height
  return (
    <Strip
      style={{ left, top: room ? p.y + 32 : p.y - 80 }}
      role="toolbar"
      aria-label={`Grow at ${bus.name}`}
    >
      grow
      {shoots.map((s) => (
        <TooltipTrigger key={s.name} delay={300}>
          <Handle aria-label={`Grow ${s.label}`} onPress={() => grow(id, s.name)}>
            <svg
              width={22}
              height={22}
              viewBox="-14 -14 28 28"
              fill="none"
              stroke="currentColor"
              strokeWidth={1.6}
              strokeLinejoin="round"
              aria-hidden="true"
            >
              <Sign name={s.name} />
            </svg>
          </Handle>
          <Tip offset={4}>{s.label}</Tip>
        </TooltipTrigger>
      ))}
    </Strip>
  )
}

function Sign({ name }: { name: string }) {
  if (name === 'line') return <path d="M-12 0H8M8-7V7" />
  const branch = branchSymbols[name]
  if (branch)
    return (
      <g transform="scale(0.8)">
        <branch.Draw device="breaker" />
      </g>
    )
  return <g transform="translate(0 -8) scale(0.9)">{hangSymbols[name]?.Draw({ device: 'capacitor' })}</g>
}
