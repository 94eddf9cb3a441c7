/** What the schemes that are on do to the sheet: a small diamond at all they change, what they take out as a ghost. */
import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import { useTheme } from 'styled-components'
import { layersQuery } from '../api/queries'
import type { Item, Items } from '../model/items'
import { schemesOf } from '../session/schemes'
import { useParts } from '../session/store'
import { type Point, pathOf, toScreen, type View } from './geometry'
import type { Scene } from './scene'

interface Props {
  readonly scene: Scene
  readonly view: View
  readonly items: Items
  readonly build: (items: Items) => Scene
}

export function SchemeLayer({ scene, view, items, build }: Props) {
  const { project, revision } = useParts('project', 'revision')
  const on = useMemo(() => schemesOf(items).some((s) => s.active === true), [items])
  const { data } = useQuery({ ...layersQuery(project?.id ?? '', revision), enabled: !!project && on })
  const removed = data?.removed as readonly Item[] | undefined
  // With what is gone back in place, its shapes can be taken from the drawing.
  const whole = useMemo(
    () => (removed?.length ? build(new Map([...items, ...removed.map((i) => [i.id, i] as const)])) : null),
    [items, removed, build],
  )
  if (!on || !data) return null
  const named = (id: string) => (data.by[id] ?? []).map((s) => items.get(s)?.name ?? s).join(', ')
  const gone = new Set(removed?.map((i) => i.id))
  return (
    <g>
      {whole && <Ghosts scene={whole} view={view} gone={gone} named={named} />}
      {Object.keys(data.by).map((id) => {
        const at = gone.has(id) ? whole?.centre.get(id) : scene.centre.get(id)
        if (!at) return null
        const words = gone.has(id) ? `Taken out by ${named(id)}` : `Changed by ${named(id)}`
        return <Diamond key={id} at={toScreen(view, at)} hollow={gone.has(id)} words={words} />
      })}
    </g>
  )
}

function Diamond({ at, hollow, words }: { at: Point; hollow: boolean; words: string }) {
  const theme = useTheme()
  return (
    <path
      d={`M${at.x - 9} ${at.y}l5-5 5 5-5 5z`}
      fill={hollow ? theme.panel : theme.accent}
      stroke={hollow ? theme.accent : theme.panel}
      strokeWidth={1.5}
      data-testid="scheme-mark"
    >
      <title>{words}</title>
    </path>
  )
}

function Ghosts(props: {
  scene: Scene
  view: View
  gone: ReadonlySet<string>
  named: (id: string) => string
}) {
  const theme = useTheme()
  const { scene, view, gone, named } = props
  const lines: { id: string; name: string; d: string }[] = []
  for (const shape of [...scene.branches, ...scene.hangs])
    if (gone.has(shape.id)) lines.push({ id: shape.id, name: shape.name, d: pathOf(shape.points) })
  for (const b of scene.buses) {
    if (!gone.has(b.id)) continue
    const [dx, dy] = b.upright ? [0, b.half] : [b.half, 0]
    lines.push({ id: b.id, name: b.name, d: `M${b.x - dx} ${b.y - dy}L${b.x + dx} ${b.y + dy}` })
  }
  return (
    <g
      transform={`translate(${view.x} ${view.y}) scale(${view.k})`}
      fill="none"
      stroke={theme.accent}
      strokeOpacity={0.75}
      strokeDasharray="3 4"
    >
      {lines.map(({ id, name, d }) => (
        <path key={id} d={d} strokeWidth={1.5} vectorEffect="non-scaling-stroke" data-ghost={id}>
          <title>{`${name}, taken out by ${named(id)}`}</title>
        </path>
      ))}
    </g>
  )
}
