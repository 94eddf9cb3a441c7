/** Searching the catalogue as one types: any part of a description, with ranges. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Autocomplete, Input, ListBox, ListBoxItem, SearchField } from 'react-aria-components'
import styled from 'styled-components'
import type { EquipmentType } from '../api/client'
import { typesQuery, vocabularyQuery } from '../api/queries'
import { Dialog } from '../design/controls'
import { significant } from '../design/format'
import { font } from '../design/tokens'
import { useParts } from '../session/store'

const Search = styled(SearchField)`
  padding: 10px 14px; border-bottom: 1px solid ${(p) => p.theme.rule};
  input { width: 100%; height: 32px; border: none; background: transparent; font-size: 15px; outline: none; }
  input::-webkit-search-cancel-button { display: none; }
`
const Options = styled(
  ListBox,
)`padding: 6px; outline: none; max-height: 52vh; overflow: auto;` as typeof ListBox
const Option = styled(ListBoxItem)`
  display: flex; gap: 14px; align-items: baseline; padding: 5px 10px; border-radius: 4px; cursor: default; outline: none;
  .figures { margin-left: auto; color: ${(p) => p.theme.quiet}; font: 400 12px ${font.mono}; white-space: nowrap; }
  &[data-focused], &[data-hovered] { background: ${(p) => p.theme.accentWash}; }
`
const Foot = styled.p`padding: 7px 16px; color: ${(p) => p.theme.quiet}; border-top: 1px solid ${(p) => p.theme.rule}; font-size: 12px;`
const None = styled.p`padding: 10px; color: ${(p) => p.theme.quiet};`

const NOTHING = ' none'

export function TypeChooser(props: {
  family: string
  start: string
  none: boolean
  isOpen: boolean
  onClose: () => void
  onChoose: (name: string | null) => void
}) {
  const [typed, setTyped] = useState<string | null>(null)
  const { project, revision } = useParts('project', 'revision')
  const family = useQuery(vocabularyQuery).data?.families.find((f) => f.name === props.family)
  const query = typed ?? props.start
  const { data } = useQuery({
    ...typesQuery(project?.id ?? '', revision, props.family, query.trim()),
    enabled: props.isOpen && !!project,
    placeholderData: keepPreviousData,
  })
  const close = () => {
    setTyped(null)
    props.onClose()
  }
  const found = data?.types ?? []
  const none = { name: NOTHING, description: '', values: {} } as unknown as EquipmentType
  return (
    <Dialog label={family?.label ?? 'Catalogue'} isOpen={props.isOpen} onClose={close} width={640} flush>
      <div
        onKeyDownCapture={(e) => {
          if (e.key !== 'Escape') return
          e.stopPropagation()
          close()
        }}
      >
        <Autocomplete inputValue={query} onInputChange={setTyped}>
          <Search aria-label={`Search ${family?.label.toLowerCase()}`} autoFocus>
            <Input placeholder="Any part of the description; ranges as in 95..185" />
          </Search>
          <Options
            aria-label="Types"
            items={props.none && !typed ? [none, ...found] : found}
            renderEmptyState={() => (
              <None>No type matches. Try fewer words, or a range such as 50..150.</None>
            )}
            onAction={(key) => {
              close()
              props.onChoose(key === NOTHING ? null : String(key))
            }}
          >
            {(t) => (
              <Option id={t.name} textValue={t.name}>
                <span>{t.name === NOTHING ? 'no type: own figures' : t.name}</span>
                {t.own && <span>own</span>}
                <span className="figures">{figures(t, family?.shown ?? [])}</span>
              </Option>
            )}
          </Options>
        </Autocomplete>
        <Foot>
          {data
            ? `${data.total} of ${family?.count} types${data.total > found.length ? `, the first ${found.length} shown` : ''}. ${found[0]?.basis ?? ''}`
            : 'Searching …'}
        </Foot>
      </div>
    </Dialog>
  )
}

const UNIT: Readonly<Record<string, string>> = {
  r_ohm_per_km: 'Ω/km',
  x_ohm_per_km: 'jΩ/km',
  b_us_per_km: 'µS/km',
  rating_a: 'A',
  impedance_pct: '%',
  rated_mva: 'MVA',
  iron_loss_kw: 'kW',
  breaking_ka: 'kA',
  rated_kv: 'kV',
  r20_ohm_per_km: 'Ω/km',
  diameter_mm: 'mm',
  distortion_pct: '%',
}

/** A few figures that tell types of one family apart. */
export function figures(type: EquipmentType, shown: readonly string[]): string {
  return shown
    .filter((f) => UNIT[f] && type.values[f] !== undefined)
    .map((f) => {
      const v = type.values[f]
      return `${typeof v === 'number' ? significant(v, 3) : v} ${UNIT[f]}`
    })
    .join('  ')
}
