/** Where hours without supply come from, as a tree: feeder, kind of equipment, element. A branch of it lights its elements. */
import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import styled from 'styled-components'
import { feedersQuery } from '../../api/queries'
import { fixed } from '../../design/format'
import { font } from '../../design/tokens'
import { busesOf, type Items } from '../../model/items'
import { hover, selectMany, useBench, useParts } from '../../session/store'
import type { StudyResult } from '../useStudy'

const Scroll = styled.div`
  overflow: auto; min-height: 0; padding: 6px 14px 12px; &:focus-visible { outline-offset: -3px; }
  details { padding-left: 16px; } > details { padding-left: 0; }
  summary { cursor: pointer; } summary, .leaf { min-height: 26px; }
  .leaf { margin-left: 16px; padding-left: 15px; border: none; background: none; width: calc(100% - 16px); text-align: left; cursor: pointer; display: block; }
`
const Line = styled.span`
  display: inline-grid; grid-template-columns: minmax(120px, 240px) minmax(60px, 1fr) 74px 58px; gap: 0 10px; align-items: center; width: calc(100% - 20px); vertical-align: middle;
  b { font-weight: 500; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; } i { display: block; height: 8px; background: ${(p) => p.theme.accent}; min-width: 1px; }
  em { font: 400 12px ${font.mono}; text-align: right; color: ${(p) => p.theme.quiet}; white-space: nowrap; }
`
const Light = styled.button`
  border: none; background: none; color: ${(p) => p.theme.accent}; cursor: pointer; min-height: 24px; font-size: 12px; margin-left: 31px;
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet};`

interface Leaf {
  readonly id: string
  readonly name: string
  readonly kind: string
  readonly value: number
}

export interface Node {
  readonly name: string
  readonly value: number
  readonly ids: readonly string[]
  readonly below: readonly Node[]
}

const largest = (nodes: readonly Node[]) => [...nodes].sort((a, b) => b.value - a.value)

function grouped(leaves: readonly Leaf[], by: readonly ((leaf: Leaf) => string)[]): Node[] {
  const [first, ...rest] = by
  if (!first) return largest(leaves.map((l) => ({ name: l.name, value: l.value, ids: [l.id], below: [] })))
  const found = new Map<string, Leaf[]>()
  for (const l of leaves) found.set(first(l), [...(found.get(first(l)) ?? []), l])
  return largest(
    [...found].map(([name, own]) => ({
      name,
      value: own.reduce((sum, l) => sum + l.value, 0),
      ids: own.map((l) => l.id),
      below: grouped(own, rest),
    })),
  )
}

/** Contributions as a tree: by the feeder of their far bus, above it by what has none; then by kind. */
export function causesOf(result: StudyResult, items: Items, feeders: ReadonlyMap<string, string>): Node[] {
  const columns = result.tables.elements?.columns ?? []
  const of = (name: string) => (columns.find((c) => c.name === name)?.values ?? []) as unknown[]
  const [ids, names, kinds, values] = [of('id'), of('name'), of('kind'), of('saidi')]
  const leaves = ids.flatMap((id, i): Leaf[] =>
    typeof values![i] === 'number' && (values![i] as number) > 0
      ? [{ id: String(id), name: String(names![i]), kind: String(kinds![i]), value: values![i] as number }]
      : [],
  )
  const feeder = (l: Leaf) => {
    const item = items.get(l.id)
    const buses = item?.kind === 'bus' ? [item.id] : item ? busesOf(item) : []
    return buses.map((b) => feeders.get(b)).findLast((f) => f) ?? 'above the feeders'
  }
  return grouped(leaves, [feeder, (l) => l.kind])
}

const HOUR = 60

export function Causes({ result }: { result: StudyResult }) {
  const items = useBench((s) => s.items)
  const { project, wiring } = useParts('project', 'wiring')
  const { data, isError } = useQuery({
    ...feedersQuery(project?.id ?? '', wiring),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  const tree = useMemo(() => {
    const of = new Map((data?.feeders ?? []).flatMap((f) => f.buses.map((b) => [b, f.name] as const)))
    return causesOf(result, items, of)
  }, [result, items, data])
  const whole = tree.reduce((sum, n) => sum + n.value, 0)
  // A tree without its feeders would be another one, and close again what was opened in it.
  if (!data && !isError && project) return <None>Looking up the feeders ...</None>
  if (!whole) return <None>Nothing is interrupted.</None>
  return (
    <Scroll tabIndex={0} role="region" aria-label="Where it comes from, as a tree">
      {tree.map((node, n) => (
        <Part key={node.name} node={node} whole={whole} most={tree[0]!.value} open={n === 0} />
      ))}
    </Scroll>
  )
}

function Part(props: { node: Node; whole: number; most: number; open?: boolean }) {
  const { node, whole, most } = props
  const line = (
    <Line>
      <b title={node.name}>{node.name}</b>
      <i style={{ width: `${(100 * node.value) / most}%` }} />
      <em>{fixed(node.value * HOUR, 1)} min</em>
      <em>{fixed((100 * node.value) / whole, 1)} %</em>
    </Line>
  )
  if (!node.below.length)
    return (
      <button
        type="button"
        className="leaf"
        onClick={() => selectMany(node.ids, { reveal: true })}
        onPointerEnter={() => hover(node.ids[0] ?? null)}
        onPointerLeave={() => hover(null)}
      >
        {line}
      </button>
    )
  return (
    <details open={props.open}>
      <summary>{line}</summary>
      <Light type="button" onClick={() => selectMany(node.ids, { reveal: true })}>
        show {node.ids.length === 1 ? 'it' : `all ${node.ids.length}`} on the sheet
      </Light>
      {node.below.map((n) => (
        <Part key={`${n.name} ${n.ids[0]}`} node={n} whole={whole} most={most} />
      ))}
    </details>
  )
}
