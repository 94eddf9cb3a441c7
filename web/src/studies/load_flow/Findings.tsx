/** What is outside its limits, the worst first; each leads to its element, its cause, and what would help. */
import { useQuery } from '@tanstack/react-query'
import { useVirtualizer } from '@tanstack/react-virtual'
import { useMemo, useRef, useState } from 'react'
import styled from 'styled-components'
import type { Finding } from '../../api/client'
import { causeQuery } from '../../api/queries'
import { Button, Pick, Plain, TextInput } from '../../design/controls'
import { Mark } from '../../design/Icon'
import { font } from '../../design/tokens'
import { busesOf, type Item, type Items, text } from '../../model/items'
import { usePrefs } from '../../model/prefs'
import { labelled } from '../../model/quantities'
import type { Result } from '../../model/results'
import { withUnit } from '../../model/units'
import { freeName } from '../../session/create'
import { changeOrTell } from '../../session/edits'
import { hover, select, useBench, useKind, useLiveToken, useParts } from '../../session/store'
import { openView } from '../../shelf/desks'

const Frame = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) auto; height: 100%; min-height: 0;
  @container (max-width: 680px) { grid-template-columns: minmax(0, 1fr); grid-template-rows: minmax(0, 1fr) auto; }
`
const Left = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0;`
const Tools = styled.div`
  display: flex; gap: 10px; align-items: center; padding: 1px 16px; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 28px; white-space: nowrap;
  label { display: flex; gap: 6px; align-items: center; color: ${(p) => p.theme.quiet}; font-size: 12px; }
`
const Scroll = styled.div`height: 100%; overflow-y: auto; min-height: 0;`
const List = styled.ul`list-style: none; margin: 0; padding: 0; position: relative;`
const Row = styled.button`
  display: grid; grid-template-columns: 30px minmax(110px, 190px) 92px 60px minmax(0, 1fr); align-items: center; gap: 8px;
  width: 100%; height: 30px; padding: 0 16px; border: none; border-bottom: 1px solid ${(p) => p.theme.rule}; background: transparent;
  text-align: left; cursor: pointer;
  @container (max-width: 520px) { grid-template-columns: 26px minmax(90px, 1fr) 84px 52px; .text { display: none; } }
  &:hover { background: ${(p) => p.theme.accentWash}; }
  &[aria-current='true'] { background: ${(p) => p.theme.accentWash}; }
  &:focus-visible { outline-offset: -2px; }
  .mark { color: var(--tone); display: flex; } .value { color: var(--tone); font: 500 12.5px/1 ${font.mono}; text-align: right; }
  .name { font-weight: 500; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  .text { color: ${(p) => p.theme.quiet}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  &[data-severity='breach'] { --tone: ${(p) => p.theme.breach}; }
  &[data-severity='watch'] { --tone: ${(p) => p.theme.watchInk}; }
  &[data-seen='true'] { --tone: ${(p) => p.theme.quiet}; opacity: 0.75; }
`
const Heading = styled.div`
  height: 30px; display: flex; align-items: end; padding: 0 16px 3px; color: ${(p) => p.theme.quiet}; font-size: 12px; font-weight: 500;
  border-bottom: 1px solid ${(p) => p.theme.rule};
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet};`
const Why = styled.aside`
  width: 350px; border-left: 1px solid ${(p) => p.theme.rule}; overflow-y: auto; padding: 8px 14px; min-height: 0;
  @container (max-width: 680px) { width: auto; border-left: none; border-top: 1px solid ${(p) => p.theme.rule}; max-height: 45cqh; }
  h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 8px 0 3px; } h3:first-child { margin-top: 0; }
  ul { list-style: none; padding: 0; margin: 0; display: grid; gap: 5px; }
  li { display: grid; grid-template-columns: minmax(0, 1fr) auto; gap: 2px 8px; align-items: center; }
  .effect { color: ${(p) => p.theme.quiet}; font: 400 11.5px ${font.mono}; grid-column: 1; } li > button { grid-row: 1 / 3; grid-column: 2; }
  .note { display: flex; gap: 6px; }
`

const ROW = 30

/** What an acknowledged finding said; worse than that it counts again. */
interface Seen {
  readonly item: Item
  readonly note: string
}

/** Acknowledgements by element and quantity, unless the figure has become worse since. */
function seenOf(acknowledged: readonly Item[], findings: readonly Finding[]): ReadonlyMap<string, Seen> {
  const known = new Map<string, Item>()
  for (const i of acknowledged) known.set(`${text(i, 'element')} ${text(i, 'quantity')}`, i)
  const found = new Map<string, Seen>()
  for (const f of findings) {
    const item = known.get(keyOf(f))
    if (!item) continue
    const then = item.value
    const worse =
      typeof then === 'number' &&
      typeof f.value === 'number' &&
      (f.direction === 'below' ? f.value < then - slack(then) : f.value > then + slack(then))
    if (!worse) found.set(keyOf(f), { item, note: text(item, 'note') })
  }
  return found
}

const slack = (v: number) => Math.abs(v) * 0.002
const keyOf = (f: Finding) => `${f.element} ${f.quantity}`

type Grouping = 'none' | 'kind' | 'area'
type Line = { readonly heading: string } | { readonly finding: Finding }

const GROUPS = [
  { id: 'none', label: 'the worst first' },
  { id: 'kind', label: 'by what is wrong' },
  { id: 'area', label: 'by area' },
]

function linesOf(
  findings: readonly Finding[],
  grouping: Grouping,
  items: Items,
  result: Result | null,
): Line[] {
  if (grouping === 'none') return findings.map((finding) => ({ finding }))
  const of = (f: Finding) => {
    if (grouping === 'kind') {
      const word = f.limit_name === 'Model' ? undefined : labelled(result, f.quantity)
      return word ? `${word} ${f.direction === 'below' ? 'too low' : 'too high'}` : 'Model'
    }
    const item = items.get(f.element)
    const bus = item?.kind === 'bus' ? item : items.get(item ? (busesOf(item)[0] ?? '') : '')
    return items.get(text(bus, 'area'))?.name ?? 'no area'
  }
  const found = new Map<string, Finding[]>()
  for (const f of findings) found.set(of(f), [...(found.get(of(f)) ?? []), f])
  return [...found].flatMap(([name, list]): Line[] => [
    { heading: `${name} · ${list.length}` },
    ...list.map((finding) => ({ finding })),
  ])
}

const NO_FINDINGS: readonly Finding[] = []

export function Findings() {
  const { selected, result, failed } = useParts('selected', 'result', 'failed')
  const acknowledged = useKind('acknowledgement')
  const findings = result?.findings ?? NO_FINDINGS
  const [grouping, setGrouping] = useState<Grouping>('none')
  const [hideSeen, setHideSeen] = useState(false)
  const seen = useMemo(() => seenOf(acknowledged, findings), [acknowledged, findings])
  const shown = hideSeen ? findings.filter((f) => !seen.has(keyOf(f))) : findings
  // Names and areas as they are when there is a new result, which every edit brings.
  const lines = useMemo(
    () => linesOf(shown, grouping, useBench.getState().items, result),
    [shown, grouping, result],
  )
  if (!findings.length) {
    if (failed || !result) return <None>No result to judge.</None>
    return <None>Every voltage and loading is within its limits, and the model has no gaps.</None>
  }
  const chosen = findings.find((f) => f.element === selected && f.limit_name !== 'Model')
  return (
    <Frame>
      <Left>
        <Tools>
          <Pick
            label="Order"
            hideLabel
            value={grouping}
            choices={GROUPS}
            onChange={(g) => setGrouping(g as Grouping)}
          />
          {seen.size > 0 && (
            <label>
              <input
                type="checkbox"
                checked={hideSeen}
                onChange={(e) => setHideSeen(e.currentTarget.checked)}
              />
              hide the {seen.size} acknowledged
            </label>
          )}
        </Tools>
        <Rows lines={lines} seen={seen} />
      </Left>
      {chosen && <Cause key={keyOf(chosen)} finding={chosen} seen={seen.get(keyOf(chosen))} />}
    </Frame>
  )
}

function Rows({ lines, seen }: { lines: readonly Line[]; seen: ReadonlyMap<string, Seen> }) {
  const selected = useBench((s) => s.selected)
  const { items } = useBench.getState()
  const units = usePrefs((s) => s.units)
  const scroll = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 8,
  })
  return (
    <Scroll ref={scroll}>
      <List style={{ height: rows.getTotalSize() }}>
        {rows.getVirtualItems().map((v) => {
          const line = lines[v.index]!
          const style = { position: 'absolute', top: v.start, left: 0, right: 0 } as const
          if ('heading' in line)
            return (
              <li key={v.key} style={style}>
                <Heading>{line.heading}</Heading>
              </li>
            )
          const f = line.finding
          const known = seen.get(keyOf(f))
          return (
            <li key={v.key} style={style}>
              <Row
                type="button"
                data-severity={f.severity}
                data-seen={known !== undefined}
                aria-current={selected === f.element}
                onClick={() => select(f.element, { reveal: true })}
                onPointerEnter={() => hover(f.element)}
                onPointerLeave={() => hover(null)}
              >
                <span className="mark">
                  <Mark severity={f.severity} direction={f.direction} />
                </span>
                <span className="name">{items.get(f.element)?.name ?? f.element}</span>
                <span className="value">
                  {typeof f.value === 'number'
                    ? withUnit(f.value, f.unit, f.unit === 'p.u.' ? 3 : 1, units)
                    : f.limit_name}
                </span>
                <span>{f.severity}</span>
                <span className="text">
                  {known ? `acknowledged${known.note ? `: ${known.note}` : ''}` : f.text}
                </span>
              </Row>
            </li>
          )
        })}
      </List>
    </Scroll>
  )
}

/** Why it is so, what was tried and helps, and the acknowledgement. */
function Cause({ finding, seen }: { finding: Finding; seen: Seen | undefined }) {
  const { project, items } = useParts('project', 'items')
  const token = useLiveToken()
  const [note, setNote] = useState(seen?.note ?? '')
  const { data, isError } = useQuery({
    ...causeQuery(project?.id ?? '', 'live', token, finding.element, finding.quantity),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  const name = items.get(finding.element)?.name ?? finding.element
  const acknowledge = () =>
    changeOrTell(`Acknowledge ${name}`, [
      seen
        ? { op: 'update', id: seen.item.id, values: { note, value: finding.value }, origins: {} }
        : {
            op: 'add',
            item: {
              kind: 'acknowledgement',
              id: freeName(`Seen: ${name}`),
              element: finding.element,
              quantity: finding.quantity,
              value: finding.value,
              note,
            },
          },
    ])
  return (
    <Why aria-label="Cause">
      <h3>Why</h3>
      <p data-testid="cause">
        {isError ? 'The cause could not be worked out.' : (data?.text ?? 'Looking along the supply …')}
      </p>
      {data?.uneven && (
        <Button onPress={() => balanceBehind(data.uneven!)}>
          Balance the phases behind {items.get(data.uneven)?.name ?? data.uneven}
        </Button>
      )}
      {data && data.proposals.length > 0 && (
        <>
          <h3>Tried, and it helps</h3>
          <ul>
            {data.proposals.map((p) => (
              <li key={p.label}>
                <span>{p.label}</span>
                <span className="effect">{p.effect}</span>
                <Button onPress={() => void changeOrTell(p.label, p.changes)}>Do it</Button>
              </li>
            ))}
          </ul>
        </>
      )}
      <h3>{seen ? 'Acknowledged' : 'May stay as it is'}</h3>
      <div className="note">
        <TextInput
          aria-label="Note"
          placeholder="why it may stay"
          value={note}
          onChange={(e) => setNote(e.currentTarget.value)}
          onKeyDown={(e) => {
            e.stopPropagation()
            if (e.key === 'Enter') void acknowledge()
          }}
        />
        <Plain onPress={() => void acknowledge()}>{seen ? 'Keep note' : 'Acknowledge'}</Plain>
        {seen && (
          <Plain
            onPress={() =>
              void changeOrTell(`Take back the acknowledgement of ${name}`, [
                { op: 'remove', id: seen.item.id },
              ])
            }
          >
            Take back
          </Plain>
        )}
      </div>
    </Why>
  )
}

/** Open phase balancing for all that a branch feeds. */
function balanceBehind(head: string) {
  select(head, { reveal: true })
  openView('balancing', 'half')
}
