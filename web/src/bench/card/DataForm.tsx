/** The fields of an element, built from their declarations, each edited where it stands. */
import styled from 'styled-components'
import type { Kind } from '../../api/client'
import type { Item } from '../model'
import { Field } from './Field'

const Rows = styled.div`display: flex; flex-direction: column;`
const Key = styled.p`color: ${(p) => p.theme.quiet}; font-size: 12px; margin-top: 10px;`
const Section = styled.details`
  margin-top: 10px;
  summary { color: ${(p) => p.theme.quiet}; cursor: default; padding: 4px 0; }
`

export function DataForm({ item, kind }: { item: Item; kind: Kind }) {
  const shown = kind.fields.filter((f) => !f.terminal && f.type !== 'other')
  const [data, rest] = [shown.filter((f) => f.group === 'data'), shown.filter((f) => f.group !== 'data')]
  const order = (name: string) => (name === 'in_service' || name === 'conductors' ? 1 : 0)
  const origins = Object.values(item.origins ?? {})
  return (
    <>
      <Rows>
        {[...data]
          .sort((a, b) => order(a.name) - order(b.name))
          .map((f) => (
            <Field key={f.name} item={item} spec={f} />
          ))}
      </Rows>
      {origins.includes('typical') && <Key>≈ typical value, nobody has confirmed it yet</Key>}
      {origins.includes('catalogue') && <Key>§ from the catalogue type</Key>}
      <Section>
        <summary>Name, note and place</summary>
        <Rows>
          {rest.map((f) => (
            <Field key={f.name} item={item} spec={f} />
          ))}
        </Rows>
      </Section>
    </>
  )
}
