/** What an element is under the condition in use, where that differs from normal; and the list of all that differ. */
import styled from 'styled-components'
import { IconButton, Pick } from '../design/controls'
import type { Item } from '../model/items'
import { updateOrTell } from '../session/queue'
import { useBench, useCondition } from '../session/store'
import { BusLink } from './Card'

const Row = styled.div`
  display: grid; grid-template-columns: 112px minmax(0, 1fr); column-gap: 8px; align-items: center; min-height: 29px;
  border-bottom: 1px solid ${(p) => p.theme.rule}; > span { color: ${(p) => p.theme.quiet}; }
`
const List = styled.ul`
  list-style: none; margin: 0; padding: 0;
  li { display: grid; grid-template-columns: minmax(0, 1fr) auto 28px; gap: 8px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule}; }
`

type States = Readonly<Record<string, string>>

const WORDS: States = { out: 'out of service', in: 'in service', open: 'open', closed: 'closed' }
const NORMAL = 'normal'

const statesOf = (condition: Item | undefined) => (condition?.states ?? {}) as States

function put(condition: Item, item: { id: string; name: string }, state: string) {
  const { [item.id]: _, ...rest } = statesOf(condition)
  const states = state === NORMAL ? rest : { ...rest, [item.id]: state }
  const words = state === NORMAL ? 'as normal' : WORDS[state]
  void updateOrTell(condition, { states }, `${item.name} ${words} in ${condition.name}`)
}

/** One row of the card: as normal, or another state under this condition. */
export function StateHere({ item }: { item: Item }) {
  const condition = useCondition()
  if (!condition) return null
  const opposite = item.in_service === false ? 'in' : 'out'
  const thrown = item.kind === 'switch' ? [item.closed === false ? 'closed' : 'open'] : []
  const choices = [NORMAL, ...thrown, opposite].map((id) => ({ id, label: WORDS[id] ?? 'as normal' }))
  const now = statesOf(condition)[item.id] ?? NORMAL
  return (
    <Row title={`Only under the condition ${condition.name}`}>
      <span>In condition</span>
      <Pick
        label={`State under ${condition.name}`}
        hideLabel
        value={choices.some((c) => c.id === now) ? now : NORMAL}
        choices={choices}
        onChange={(state) => put(condition, item, state)}
      />
    </Row>
  )
}

/** Everything that is otherwise under a condition. */
export function StatesOf({ condition }: { condition: Item }) {
  const items = useBench((s) => s.items)
  const found = Object.entries(statesOf(condition))
  if (!found.length)
    return <p>Every element is as normal. Select one to set it out of service under this condition.</p>
  return (
    <List>
      {found.map(([id, state]) => (
        <li key={id}>
          <BusLink id={id} />
          <span>{WORDS[state]}</span>
          <IconButton
            icon="close"
            label={`${items.get(id)?.name ?? id} as normal`}
            onPress={() => put(condition, { id, name: items.get(id)?.name ?? id }, NORMAL)}
          />
        </li>
      ))}
    </List>
  )
}
