/** The card about several elements: what they are, one field for all, data from another one, arranging. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import type { FieldSpec, Kind } from '../api/client'
import { vocabularyQuery } from '../api/queries'
import { Button, IconButton } from '../design/controls'
import { exact } from '../design/format'
import type { Item } from '../model/items'
import { align, distribute, labelsBack, turn } from '../session/arrange'
import { copy, duplicate } from '../session/copies'
import { remove, tidy, updateMany } from '../session/edits'
import { select, useBench, useParts } from '../session/store'
import { applies, Field } from './Field'

const Head = styled.header`
  display: flex; justify-content: space-between; align-items: flex-start; h2 { font-size: 16px; font-weight: 600; }
  p { color: ${(p) => p.theme.quiet}; }
`
const Acts = styled.div`display: flex; flex-wrap: wrap; gap: 5px; margin: 8px 0 12px;`
const Sub = styled.h3`font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 12px 0 3px;`
const Pick = styled.label`
  display: flex; gap: 8px; padding: 3px 0; border-bottom: 1px solid ${(p) => p.theme.rule}; align-items: center;
  span:last-child { margin-left: auto; color: ${(p) => p.theme.quiet}; }
`

export function Several({ ids }: { ids: readonly string[] }) {
  const { items, dataFrom } = useParts('items', 'dataFrom')
  const kinds = useQuery(vocabularyQuery).data?.kinds ?? []
  const found = ids.flatMap((id) => items.get(id) ?? [])
  const count = new Map<string, number>()
  for (const i of found) count.set(i.kind, (count.get(i.kind) ?? 0) + 1)
  const words = [...count].map(([k, n]) => {
    const kind = kinds.find((x) => x.kind === k)
    return `${n} ${(n === 1 ? kind?.label : kind?.plural)?.toLowerCase()}`
  })
  const only = count.size === 1 ? kinds.find((k) => k.kind === found[0]?.kind) : undefined
  const from = dataFrom ? items.get(dataFrom) : undefined
  const buses = count.get('bus') ?? 0
  const whom = found.map((i) => i.id).join() // a refusal or a draft is of these, and of no others
  return (
    <>
      <Head>
        <div>
          <h2>{found.length} selected</h2>
          <p>{words.join(', ')}</p>
        </div>
        <IconButton icon="close" label="Select nothing" keys="Esc" onPress={() => select(null)} />
      </Head>
      <Acts>
        <Button onPress={() => copy(ids)}>Copy</Button>
        <Button onPress={() => void duplicate(ids)}>Duplicate</Button>
        <Button onPress={() => void remove([...ids])}>Remove</Button>
        <Button onPress={turn}>Turn</Button>
        <Button onPress={labelsBack}>Labels back</Button>
        {buses > 1 && <Button onPress={() => align('y')}>Align level</Button>}
        {buses > 1 && <Button onPress={() => align('x')}>Align upright</Button>}
        {buses > 2 && <Button onPress={() => distribute('x')}>Even gaps</Button>}
        {buses > 0 && <Button onPress={() => void tidy([...ids])}>Tidy</Button>}
      </Acts>
      {from && from.kind === found[0]?.kind && only && <Apply from={from} to={found} kind={only} />}
      {only ? (
        <>
          <Sub>One value for all {found.length}</Sub>
          {editable(only, found[0]!).map((f) => (
            <Field key={`${f.name} ${whom}`} item={found[0]!} others={found.slice(1)} spec={f} />
          ))}
        </>
      ) : (
        <p>Select elements of one kind to edit a field of all of them at once.</p>
      )}
    </>
  )
}

/** What makes the kind comes first, then its further groups, at last what everything has. */
const editable = (kind: Kind, item: Item): FieldSpec[] => {
  const late = (f: FieldSpec) => (f.group === 'identity' ? 2 : f.group === 'data' ? 0 : 1)
  return kind.fields
    .filter(
      (f) =>
        !f.terminal && f.type !== 'other' && f.name !== 'name' && f.group !== 'place' && applies(item, f),
    )
    .sort((a, b) => late(a) - late(b))
}

/** Chosen fields of one element for all the others. */
function Apply({ from, to, kind }: { from: Item; to: readonly Item[]; kind: Kind }) {
  const given = editable(kind, from).filter((f) => from[f.name] !== undefined && f.group !== 'identity')
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set())
  const flip = (name: string) => {
    const next = new Set(chosen)
    if (!next.delete(name)) next.add(name)
    setChosen(next)
  }
  const apply = () => {
    const values = Object.fromEntries([...chosen].map((f) => [f, from[f]]))
    const others = to.filter((i) => i.id !== from.id)
    void updateMany(
      others.map((i) => ({ id: i.id, values })),
      `Apply data of ${from.name} to ${others.length} elements`,
    )
    useBench.setState({ dataFrom: null })
  }
  return (
    <>
      <Sub>Data of {from.name} for the selection</Sub>
      {given.map((f) => (
        <Pick key={f.name}>
          <input type="checkbox" checked={chosen.has(f.name)} onChange={() => flip(f.name)} />
          <span>{f.label}</span>
          <span>{shown(from[f.name], f)}</span>
        </Pick>
      ))}
      <Acts>
        <Button isDisabled={!chosen.size} onPress={apply}>
          Apply {chosen.size} {chosen.size === 1 ? 'field' : 'fields'}
        </Button>
        <Button onPress={() => useBench.setState({ dataFrom: null })}>Leave it</Button>
      </Acts>
    </>
  )
}

function shown(value: unknown, spec: FieldSpec): string {
  if (typeof value === 'boolean') return value ? 'yes' : 'no'
  if (typeof value === 'number') return `${exact(value, spec.shown_factor ?? 1)} ${spec.shown_unit ?? ''}`
  return String(value)
}
