/** What stands beside an element or uses it: current transformers and relays of a switch, lines of a geometry. */
import styled from 'styled-components'
import { Plain } from '../design/controls'
import type { Item } from '../model/items'
import { createAt } from '../session/create'
import { select, useBench } from '../session/store'
import { BusLink } from './Card'

const Head = styled.h3`font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 12px 0 2px;`
const List = styled.ul`list-style: none; margin: 0; padding: 0; li { padding: 3px 0; }`

const SHOWN = 12

export function Related({ item }: { item: Item }) {
  const items = useBench((s) => s.items)
  const beside = [...items.values()].filter((i) => i.at === item.id || i.trips === item.id)
  const users =
    item.kind === 'line_geometry'
      ? [...items.values()].filter((i) => i.geometry === item.id)
      : item.kind === 'own_type'
        ? [...items.values()].filter((i) => i.type === item.id)
        : []
  const add = async (kind: 'current_transformer' | 'relay') => {
    const made = await createAt(item, kind)
    if (made) select(made)
  }
  if (item.kind !== 'switch' && !users.length) return null
  return (
    <>
      <Head>{item.kind === 'switch' ? 'Protection beside it' : `Used by ${users.length}`}</Head>
      <List>
        {[...beside, ...users].slice(0, SHOWN).map((i) => (
          <li key={i.id}>
            <BusLink id={i.id} />
          </li>
        ))}
        {users.length > SHOWN && <li>and {users.length - SHOWN} more</li>}
      </List>
      {item.kind === 'switch' && (
        <div style={{ marginLeft: -10 }}>
          <Plain onPress={() => void add('current_transformer')}>Add current transformer</Plain>
          <Plain onPress={() => void add('relay')}>Add relay</Plain>
        </div>
      )}
    </>
  )
}
