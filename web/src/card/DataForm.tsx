/** The fields of an element, built from their declarations, each edited where it stands. */
import { useQuery } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import styled from 'styled-components'
import type { FieldSpec, Kind, Step } from '../api/client'
import { aboutQuery } from '../api/queries'
import type { Item } from '../model/items'
import { KILO } from '../model/units'
import { confirm } from '../session/edits'
import { useParts } from '../session/store'
import { ConditionFactors } from './ConditionFactors'
import { Documents } from './Documents'
import { applies, Field } from './Field'
import { PhasePick } from './PhasePick'
import { PlanSteps } from './PlanSteps'
import { Related } from './Related'
import { SpectrumHere, spectrumOf } from './SpectrumHere'
import { StateHere } from './StateHere'
import { useCardUnits } from './useCardUnits'
import { ValuesHere } from './ValuesHere'

const Rows = styled.div`display: flex; flex-direction: column;`
const Key = styled.p`color: ${(p) => p.theme.quiet}; font-size: 12px; margin-top: 10px;`
const Details = styled.details`
  margin-top: 8px;
  summary { color: ${(p) => p.theme.quiet}; cursor: default; padding: 4px 0; }
`

const All = styled.button`
  border: none; background: none; padding: 0 0 0 4px; min-height: 24px; color: ${(p) => p.theme.accent}; cursor: pointer;
`

const GROUPS: readonly (readonly [string, string])[] = [
  ['control', 'Control'],
  ['parts', 'Its parts'],
  ['phases', 'Phases and neutral'],
  ['protection', 'Trip unit and fuse'],
  ['earth', 'Neutral earthing'],
  ['sequence', 'Zero sequence and fault data'],
  ['harmonics', 'Harmonics'],
  ['dispatch', 'Dispatch and cost'],
  ['after', 'What is allowed after it'],
  ['reliability', 'Failures and interruptions'],
  ['years', 'Years'],
  ['identity', 'Name, note and documents'],
  ['place', 'Symbol and place'],
]

/** Sections in order; one that nobody has named here stands before the last two, so that no field is out of sight. */
function sections(fields: readonly FieldSpec[]): readonly (readonly [string, string])[] {
  const known = new Set(['data', ...GROUPS.map(([g]) => g)])
  const more = [...new Set(fields.map((f) => f.group ?? 'data'))].filter((g) => !known.has(g))
  const others = more.map((g) => [g, `${g[0]?.toUpperCase()}${g.slice(1)}`] as const)
  return [...GROUPS.slice(0, -2), ...others, ...GROUPS.slice(-2)]
}

/** Worked-out figures of blank fields, by field. */
export function useComputed(item: Item): ReadonlyMap<string, Step> {
  const { project, revision } = useParts('project', 'revision')
  const { data } = useQuery({
    ...aboutQuery(project?.id ?? '', revision, item.id),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  const steps = (data?.workings ?? []).flatMap((w) => w.steps)
  return new Map(steps.flatMap((s) => (s.field ? [[s.field, s] as const] : [])))
}

const inKilo = (f: FieldSpec): FieldSpec => {
  const shown_unit = f.shown_unit === f.unit ? KILO[f.unit ?? ''] : undefined
  return shown_unit ? { ...f, shown_unit, shown_factor: 1000 } : f
}

export function DataForm({ item, kind }: { item: Item; kind: Kind }) {
  const computed = useComputed(item)
  const shown = kind.fields.filter((f) => !f.terminal && f.type !== 'other' && applies(item, f))
  const origins = Object.values(item.origins ?? {})
  const named = spectrumOf(item)
  const small = useCardUnits(item).power === 'kW'
  const field = (f: FieldSpec) => (
    <Field key={f.name} item={item} spec={small ? inKilo(f) : f} computed={computed.get(f.name)} />
  )
  const order = (name: string) => (name === 'in_service' || name === 'conductors' ? 1 : 0)
  return (
    <>
      {kind.element && <PhasePick item={item} />}
      <Rows>
        {shown
          .filter((f) => f.group === 'data')
          .sort((a, b) => order(a.name) - order(b.name))
          .map(field)}
        {kind.element && <StateHere item={item} />}
        {kind.element && <ValuesHere item={item} kind={kind} />}
      </Rows>
      <Legend
        item={item}
        origins={origins}
        computed={[...computed.keys()].some((f) => item[f] === undefined)}
      />
      {sections(shown).map(([group, label]) => {
        const fields = shown.filter((f) => f.group === group)
        return fields.length ? (
          <Section key={group} label={label}>
            {() => (
              <>
                <Rows>{fields.map(field)}</Rows>
                {group === 'identity' && kind.element && <Documents item={item} />}
                {group === 'harmonics' && named && <SpectrumHere name={named} />}
              </>
            )}
          </Section>
        ) : null
      })}
      {item.kind === 'own_type' && named && <SpectrumHere name={named} />}
      {item.kind === 'condition' && <ConditionFactors item={item} />}
      {item.kind === 'plan' && <PlanSteps item={item} />}
      <Related item={item} />
    </>
  )
}

/** What is not open is not there: most of the fields of most kinds, at every edit. */
function Section({ label, children }: { label: string; children: () => ReactNode }) {
  const [open, setOpen] = useState(false)
  return (
    <Details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary>{label}</summary>
      {open && children()}
    </Details>
  )
}

function Legend({ item, origins, computed }: { item: Item; origins: readonly string[]; computed: boolean }) {
  const typical = Object.keys(item.origins ?? {}).filter((f) => item.origins?.[f] === 'typical')
  const words = [
    origins.includes('typical') && '≈ typical, nobody has confirmed it yet: click the sign, or',
    origins.includes('catalogue') && '§ from the catalogue type',
    computed && '= follows from the others; type over it to enter it',
  ].filter(Boolean)
  return (
    <>
      {words.map((w) => (
        <Key key={String(w)}>
          {w}
          {String(w).startsWith('≈') && (
            <All type="button" onClick={() => void confirm(item, typical)}>
              confirm all {typical.length}
            </All>
          )}
        </Key>
      ))}
    </>
  )
}
