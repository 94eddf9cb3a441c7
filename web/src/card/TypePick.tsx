/** The catalogue type of an element: its name, the next sizes, and a search over the whole family. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import type { FieldSpec } from '../api/client'
import { typesQuery } from '../api/queries'
import { IconButton } from '../design/controls'
import { type Item, number } from '../model/items'
import { swap } from '../session/edits'
import { useBench, useParts } from '../session/store'
import { TypeChooser } from './TypeChooser'

const Line = styled.div`display: flex; align-items: center; min-width: 0; grid-column: 2 / 4;`
const Name = styled.button`
  flex: 1; min-width: 0; text-align: left; border: 1px solid transparent; background: none; padding: 3px 6px; border-radius: 4px; cursor: pointer;
  font-weight: 500; line-height: 1.25; overflow-wrap: anywhere;
  &:hover { border-color: ${(p) => p.theme.rule}; } &[data-none='true'] { font-weight: 400; color: ${(p) => p.theme.quiet}; }
`

const Typical = styled.span`color: ${(p) => p.theme.watchInk};`

interface Props {
  readonly item: Item
  readonly spec: FieldSpec
  readonly keep: (value: unknown) => Promise<boolean>
}

export function TypePick({ item, spec, keep }: Props) {
  const [open, setOpen] = useState(false)
  const { project, revision } = useParts('project', 'revision')
  const value = item[spec.name]
  const name = typeof value === 'string' ? value : null
  const family = spec.catalogue ?? ''
  const sized = spec.name === 'type' && name !== null
  // Asked for here so that the list is at hand when it is opened.
  useQuery({ ...typesQuery(project?.id ?? '', revision, family, queryFor(item)), enabled: !!project && open })
  return (
    <Line>
      <Name
        type="button"
        data-none={name === null}
        aria-label={`${spec.label}: ${name ?? 'none'}. Choose from the catalogue`}
        title={name ?? undefined}
        onClick={() => setOpen(true)}
      >
        {item.origins?.[spec.name] === 'typical' && (
          <Typical title="typical, nobody has confirmed it yet">≈ </Typical>
        )}
        {name ?? 'choose …'}
      </Name>
      {sized && (
        <>
          <IconButton icon="minus" label="Next size down" keys="[" onPress={() => void swap([item.id], -1)} />
          <IconButton icon="plus" label="Next size up" keys="]" onPress={() => void swap([item.id], 1)} />
        </>
      )}
      <TypeChooser
        family={family}
        start={queryFor(item)}
        isOpen={open}
        none={name !== null}
        onClose={() => setOpen(false)}
        onChoose={(chosen) => void keep(chosen)}
      />
    </Line>
  )
}

/** What to search for first: types for the voltage at hand. */
function queryFor(item: Item): string {
  const { items } = useBench.getState()
  const kv = (field: string) => number(items.get(String(item[field])), 'nominal_kv')
  if (item.kind === 'line') {
    const level = kv('from_bus')
    const system = [0.4, 11, 20, 33, 132].find((v) => level !== undefined && level <= v * 1.1)
    return system ? `${system} kV ` : ''
  }
  if (item.kind === 'transformer') {
    const [hv, lv] = [kv('hv_bus'), kv('lv_bus')]
    return hv && lv ? `${hv}/${lv} `.replace('/0.4 ', '/0.4') : ''
  }
  if (item.kind === 'switch') {
    const level = kv('from_bus') ?? 0
    return level < 1 ? 'LV ' : level <= 12 ? '12 kV ' : level <= 24 ? '24 kV ' : level <= 36 ? '36 kV ' : ''
  }
  return ''
}
