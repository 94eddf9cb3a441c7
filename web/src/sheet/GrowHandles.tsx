/** Grow handles at the selected bus or line: one gesture adds something that arrives connected. */
import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import { Button, Tooltip, TooltipTrigger } from 'react-aria-components'
import styled from 'styled-components'
import { vocabularyQuery } from '../api/queries'
import { usePhaseChoices } from '../card/usePhaseChoices'
import { busesOf, type Item } from '../model/items'
import { phaseName } from '../model/phases'
import { usePrefs } from '../model/prefs'
import { grow, throwSwitch } from '../session/edits'
import { toPhases } from '../session/schemes'
import { useBench, useItem, useParts } from '../session/store'
import { type Point, toScreen, type View } from './geometry'
import type { Scene } from './scene'
import { branchSymbols, hangSymbols } from './symbols'

const Strip = styled.div`
  position: absolute; display: flex; align-items: center; gap: 1px; padding: 3px 3px 3px 10px; border-radius: 17px; z-index: 2;
  background: ${(p) => p.theme.panel}; border: 1px solid ${(p) => p.theme.accent}; transform: translateX(-50%);
  font-size: 12px; color: ${(p) => p.theme.quiet}; white-space: nowrap;
`
const Handle = styled(Button)`
  min-width: 28px; height: 28px; border-radius: 14px; border: none; background: transparent; color: ${(p) => p.theme.accent}; padding: 0;
  &[data-hovered] { background: ${(p) => p.theme.accentWash}; }
  &[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 600; }
  &[data-pressed] { background: ${(p) => p.theme.accent}; color: ${(p) => p.theme.onAccent}; }
  svg { display: block; margin: auto; }
`
const Words = styled(Handle)`padding: 0 9px;`
const Tip = styled(Tooltip)`
  background: ${(p) => p.theme.ink}; color: ${(p) => p.theme.panel}; padding: 4px 8px; border-radius: 4px; font-size: 12px;
`

/** The bus where a branch ends with nothing at it yet: what was just grown is grown on from there. */
function useBareEnd(item: Item | undefined): Item | undefined {
  const items = useBench((s) => s.items)
  return useMemo(() => {
    const ends = item && item.kind !== 'bus' ? busesOf(item) : []
    const last = ends.length > 1 ? ends.at(-1) : undefined
    if (!last) return undefined
    for (const other of items.values())
      if (other !== item && other.kind !== 'bus' && busesOf(other).includes(last)) return undefined
    return items.get(last)
  }, [item, items])
}

interface Props {
  readonly scene: Scene
  readonly view: View
  readonly size: { width: number; height: number }
  readonly more: () => void
}

export function GrowHandles({ scene, view, size, more }: Props) {
  const { selected, chosen, picking } = useParts('selected', 'chosen', 'picking')
  const chosenItem = useItem(selected)
  const end = useBareEnd(chosenItem)
  const item = end ?? chosenItem
  const id = item?.id
  const shoots = useQuery(vocabularyQuery).data?.shoots ?? []
  const phases = usePhaseChoices(item)
  const spot = item && (footOf(scene, item.id) ?? (phases ? scene.centre.get(item.id) : undefined))
  if (!item || !id || !spot || chosen.size || picking) return null
  const here = shoots.filter((s) => s.strip && s.at.includes(item.kind))
  if (!here.length && item.kind !== 'switch' && !phases) return null
  const p = toScreen(view, spot)
  const half = item.kind === 'bus' ? 185 : here.length ? 130 + (phases ? 70 : 0) : 90
  const left = Math.min(Math.max(p.x, half), size.width - half)
  // The legend stands at the lower left, buttons at the lower right.
  const below = p.y + 66 < size.height - (left - half < LEGEND.width ? LEGEND.height : 0)
  return (
    <Strip
      style={{ left, top: below ? p.y + 32 : Math.min(p.y, size.height) - 80 }}
      role="toolbar"
      aria-label={
        item.kind === 'switch'
          ? `Switch ${item.name}`
          : here.length
            ? `Grow at ${item.name}`
            : `Phase of ${item.name}`
      }
    >
      {phases && <PhaseHandles phases={phases} />}
      {item.kind === 'switch' ? (
        <Words onPress={() => throwSwitch(id)}>{item.closed === false ? 'Close it' : 'Open it'} (O)</Words>
      ) : (
        here.length > 0 && 'grow'
      )}
      {here.map((s) => (
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
      {here.length > 0 && item.kind !== 'switch' && <Words onPress={more}>more (G)</Words>}
    </Strip>
  )
}

/** What the legend takes of the lower left corner. */
const LEGEND = { width: 600, height: 62 }

/** Another phase in one press, a lateral with all that hangs on it. */
function PhaseHandles({ phases }: { phases: NonNullable<ReturnType<typeof usePhaseChoices>> }) {
  const names = usePrefs((s) => s.phaseNames)
  return (
    <>
      {phases.elements > 1 ? 'lateral on' : 'on'}
      {phases.choices.map((c) => (
        <Handle
          key={c}
          aria-label={`On phase ${phaseName(c, names)}`}
          aria-pressed={c === phases.now}
          onPress={() => c !== phases.now && void toPhases(phases.unit, c)}
        >
          {phaseName(c, names)}
        </Handle>
      ))}
    </>
  )
}

/** Below what is selected: the lower end of a node, the middle of a branch. */
function footOf(scene: Scene, id: string): Point | undefined {
  const bus = scene.busById.get(id)
  if (bus) return { x: bus.x, y: bus.y + (bus.upright ? bus.half : 0) }
  return scene.branches.some((b) => b.id === id) ? scene.centre.get(id) : undefined
}

function Sign({ name }: { name: string }) {
  if (name === 'line') return <path d="M-12 0H8M8-7V7" />
  if (name === 'cable') return <path d="M-12 0H8M8-7V7M-8-4V4M-4-4V4" />
  if (name === 'insert_bus') return <path d="M-12 0H12M0-8V8" />
  if (name === 'switch_at_start') return <path d="M-12-6V6M-12 0H-7L0-6M0 0H12" />
  if (name === 'switch_at_end') return <path d="M12-6V6M12 0H7L0-6M0 0H-12" />
  const branch = branchSymbols[name]
  if (branch) return <path d={branch.path({ device: 'breaker' })} transform="scale(0.8)" />
  return <path d={hangSymbols[name]?.path({ device: 'capacitor' })} transform="translate(0 -8) scale(0.9)" />
}
