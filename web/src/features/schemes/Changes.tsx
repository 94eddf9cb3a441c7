/** The changes of one scheme: switched on and off one by one, moved to another scheme, put in order. */
import { useState } from 'react'
import styled from 'styled-components'
import type { components } from '../../api/schema'
import { Pick, Plain, TextInput } from '../../design/controls'
import { fixed, parseNumber } from '../../design/format'
import { font } from '../../design/tokens'
import { type Item, number, text } from '../../model/items'
import {
  type Entry,
  entriesOf,
  keepBest,
  leaveOut,
  moveEntries,
  setEntries,
  setScheme,
  targetOf,
} from '../../session/schemes'
import { select, useBench, useCondition } from '../../session/store'
import { useCases } from './useCases'

type Layers = components['schemas']['LayersOut']

const Frame = styled.div`display: grid; grid-template-rows: auto auto minmax(0, 1fr); min-height: 0;`
const Bar = styled.div`
  display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: center; padding: 3px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 34px; white-space: nowrap; min-width: 0;
  label { display: flex; gap: 5px; align-items: center; color: ${(p) => p.theme.quiet}; } input { height: 26px; } .short { width: 64px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.panel}; padding: 0 6px; text-align: right; font: 400 12px ${font.mono}; }
  .name { width: 170px; font-weight: 500; } .note { flex: 1; min-width: 60px; }
`
const Scroll = styled.div`
  overflow: auto; min-height: 0; &:focus-visible { outline-offset: -3px; }
  table { border-collapse: collapse; width: 100%; font-size: 12.5px; } th { position: sticky; top: 0; background: ${(p) => p.theme.paper}; color: ${(p) => p.theme.quiet}; font-weight: 400; font-size: 12px; z-index: 1; }
  th, td { padding: 2px 8px; border-bottom: 1px solid ${(p) => p.theme.rule}; text-align: left; white-space: nowrap; } th:first-child, td:first-child { padding-left: 12px; width: 26px; }
  td.gain { text-align: right; font: 400 12.5px ${font.mono}; } th.gain { text-align: right; } td.label { white-space: normal; width: 99%; }
  td button.link { border: none; background: none; color: ${(p) => p.theme.accent}; padding: 0; min-height: 24px; text-align: left; cursor: pointer; }
  tr[data-off='true'] td { color: ${(p) => p.theme.quiet}; } .trouble { color: ${(p) => p.theme.breach}; }
`
const None = styled.p`padding: 14px 16px; color: ${(p) => p.theme.quiet}; max-width: 560px;`

const STATES = [
  { id: 'idea', label: 'idea' },
  { id: 'proposed', label: 'proposed' },
  { id: 'approved', label: 'approved' },
]

interface Props {
  readonly scheme: Item
  readonly schemes: readonly Item[]
  readonly layers: Layers | undefined
}

export function Changes({ scheme, schemes, layers }: Props) {
  const items = useBench((s) => s.items)
  const entries = entriesOf(scheme)
  const [marked, setMarked] = useState<ReadonlySet<number>>(new Set())
  const keep = (field: string, value: unknown) =>
    void setScheme(scheme, { [field]: value }, `Set ${field.replace('_k', '')} of ${scheme.name}`)
  const troubles = new Map<number, string>()
  for (const u of layers?.unfit ?? []) if (u.scheme === scheme.id) troubles.set(u.number, u.text)
  const nameOf = (id: string) => items.get(id)?.name ?? id
  const clashOf = (id: string, fields: readonly string[]) =>
    layers?.clashes.find(
      (c) =>
        c.element === id &&
        (c.earlier === scheme.id || c.later === scheme.id) &&
        (c.field === '*' || fields.includes(c.field)),
    )
  const others = schemes.filter((s) => s.id !== scheme.id).map((s) => ({ id: s.id, label: s.name }))
  const flip = (rows: readonly number[]) => {
    const next = new Set(marked)
    for (const row of rows) if (!next.delete(row)) next.add(row)
    setMarked(next)
  }
  const rows = [...marked].filter((r) => r < entries.length)
  return (
    <Frame>
      <Bar>
        <TextInput
          key={`n${scheme.name}`}
          className="name"
          aria-label="Name of the scheme"
          defaultValue={scheme.name}
          onBlur={(e) =>
            e.currentTarget.value.trim() &&
            e.currentTarget.value !== scheme.name &&
            keep('name', e.currentTarget.value.trim())
          }
          onKeyDown={leave}
        />
        <Pick
          label="State"
          hideLabel
          value={text(scheme, 'state') || 'idea'}
          choices={STATES}
          onChange={(s) => keep('state', s)}
        />
        <Figure label="cost" unit="k" value={number(scheme, 'cost_k')} onKeep={(v) => keep('cost_k', v)} />
        <Figure
          label="in service"
          unit=""
          value={number(scheme, 'year')}
          onKeep={(v) => keep('year', v === null ? null : Math.round(v))}
        />
        <TextInput
          key={`t${text(scheme, 'note')}`}
          className="note"
          aria-label="Note"
          placeholder="note"
          defaultValue={text(scheme, 'note')}
          onBlur={(e) =>
            e.currentTarget.value !== text(scheme, 'note') && keep('note', e.currentTarget.value)
          }
          onKeyDown={leave}
        />
        {entries.filter((e) => e.gain).length > 1 && (
          <Figure
            label="keep the best"
            unit={`of ${entries.filter((e) => e.gain).length}`}
            value={entries.filter((e) => e.gain && e.on).length}
            onKeep={(n) => n !== null && n >= 0 && void keepBest(scheme, Math.round(n))}
          />
        )}
        {rows.length > 0 && (
          <>
            {others.length > 0 && (
              <Pick
                label={`Move ${rows.length} to`}
                value={null}
                placeholder="another scheme"
                choices={others}
                onChange={(id) => {
                  const to = items.get(id)
                  if (to) void moveEntries(scheme, rows, to)
                  setMarked(new Set())
                }}
              />
            )}
            <Plain
              onPress={() => {
                void setEntries(
                  scheme,
                  entries.filter((_, i) => !marked.has(i)),
                  `Take ${rows.length} changes out of ${scheme.name}`,
                )
                setMarked(new Set())
              }}
            >
              Take out
            </Plain>
          </>
        )}
      </Bar>
      <Effect scheme={scheme} schemes={schemes} />
      <Scroll tabIndex={0} role="region" aria-label={`Changes of ${scheme.name}`}>
        {entries.length === 0 ? (
          <None>No changes yet. Record edits into it: the pencil beside its name, then edit as ever.</None>
        ) : (
          <table aria-label="Changes">
            <thead>
              <tr>
                <th>on</th>
                <th>Change</th>
                <th className="gain">Own gain</th>
                <th>mark</th>
              </tr>
            </thead>
            <tbody>
              {entries.map((e, i) => {
                if (isFollower(entries, i)) return null
                const id = targetOf(e.change)
                const together = followers(entries, i)
                const fields = e.change.op === 'update' ? Object.keys(e.change.values) : []
                const clash = e.on && scheme.active === true ? clashOf(id, fields) : undefined
                const trouble = troubles.get(i)
                return (
                  // biome-ignore lint/suspicious/noArrayIndexKey: an element may be changed twice
                  <tr key={`${id} ${i}`} data-off={!e.on}>
                    <td>
                      <input
                        type="checkbox"
                        aria-label={`${e.label || id} on`}
                        checked={e.on}
                        onChange={() =>
                          void setEntries(
                            scheme,
                            entries.map((x, n) =>
                              n === i || together.includes(n) ? { ...x, on: !e.on } : x,
                            ),
                            `${e.on ? 'Leave out' : 'Take up'} ${e.label || id}`,
                          )
                        }
                      />
                    </td>
                    <td className="label">
                      <button
                        type="button"
                        className="link"
                        onClick={() => items.has(id) && select(id, { reveal: true })}
                      >
                        {e.label || `${e.change.op} ${nameOf(id)}`}
                        {together.length ? `, and ${together.length} elements with it` : ''}
                      </button>
                      {trouble && <div className="trouble">Left out: {trouble}</div>}
                      {clash && (
                        <div className="trouble">
                          {clash.later === scheme.id
                            ? `Overrides ${nameOf(clash.earlier)}, which sets the same`
                            : `${nameOf(clash.later)} sets the same and counts, as it stands later in the stack`}
                          <Plain
                            onPress={() => {
                              const other = items.get(clash.later === scheme.id ? clash.earlier : clash.later)
                              if (other) void leaveOut(other, id, clash.field)
                            }}
                          >
                            let this one count alone
                          </Plain>
                          <Plain onPress={() => void leaveOut(scheme, id, clash.field)}>let the other</Plain>
                        </div>
                      )}
                    </td>
                    <td className="gain">{e.gain}</td>
                    <td>
                      <input
                        type="checkbox"
                        aria-label={`Mark ${e.label || id}`}
                        checked={marked.has(i)}
                        onChange={() => flip([i, ...together])}
                      />
                    </td>
                  </tr>
                )
              })}
            </tbody>
          </table>
        )}
      </Scroll>
    </Frame>
  )
}

const Strip = styled.dl`
  display: flex; gap: 4px 18px; margin: 0; padding: 5px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; overflow-x: auto; scrollbar-width: none; white-space: nowrap; align-items: baseline;
  dt { color: ${(p) => p.theme.quiet}; font-size: 12px; } dd { margin: 0; font: 400 12.5px ${font.mono}; } div { display: grid; gap: 1px; }
`

/** What the scheme does to the network as it stands: figures without it and with it, under the condition in use. */
function Effect({ scheme, schemes }: { scheme: Item; schemes: readonly Item[] }) {
  const condition = useCondition()?.id ?? null
  const others = schemes.filter((s) => s.active === true && s.id !== scheme.id).map((s) => s.id)
  const { data } = useCases(
    {
      before: { schemes: others, condition },
      after: { schemes: [...others, scheme.id], condition },
      pictures: false,
    },
    entriesOf(scheme).length > 0,
  )
  if (!data?.before.converged || !data.after.converged) return <span />
  const of = (name: string) => (data.summary.columns.find((c) => c.name === name)?.values ?? []) as unknown[]
  const [before, after] = [of('before'), of('after')] as (number | null)[][]
  const rows = (of('short') as string[]).flatMap((label, i) => (label ? [{ label, i }] : []))
  return (
    <Strip aria-label={`Without and with ${scheme.name}`} data-testid="scheme-effect" tabIndex={0}>
      {rows.map(({ label, i }) => (
        <div key={label} title={String(of('label')[i])}>
          <dt>
            {label} {String(of('unit')[i])}
          </dt>
          <dd>
            {fixed(before![i], Number(of('digits')[i]))} → {fixed(after![i], Number(of('digits')[i]))}
          </dd>
        </div>
      ))}
    </Strip>
  )
}

/** Changes that make sense only together stand as one line: the first of their group. */
const isFollower = (entries: readonly Entry[], row: number) => {
  const group = entries[row]?.group
  return !!group && entries.findIndex((e) => e.group === group) < row
}
const followers = (entries: readonly Entry[], row: number): number[] => {
  const group = entries[row]?.group
  return group ? entries.flatMap((e, i) => (i > row && e.group === group ? [i] : [])) : []
}

const leave = (e: React.KeyboardEvent<HTMLInputElement>) => {
  e.stopPropagation()
  if (e.key === 'Enter') e.currentTarget.blur()
}

function Figure(props: {
  label: string
  unit: string
  value: number | undefined
  onKeep: (v: number | null) => void
}) {
  return (
    <label>
      {props.label}
      <input
        key={String(props.value)}
        className="short"
        aria-label={props.label}
        defaultValue={props.value ?? ''}
        onBlur={(e) => {
          const typed = e.currentTarget.value.trim()
          const found = typed === '' ? null : parseNumber(typed)
          if (found !== null && !Number.isFinite(found)) e.currentTarget.value = String(props.value ?? '')
          else if (found !== (props.value ?? null)) props.onKeep(found)
        }}
        onKeyDown={leave}
      />
      {props.unit}
    </label>
  )
}
