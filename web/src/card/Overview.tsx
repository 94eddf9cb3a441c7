/** The card when nothing is selected: the whole network, and its settings. */
import { useQuery } from '@tanstack/react-query'
import { Fragment, memo } from 'react'
import styled from 'styled-components'
import { vocabularyQuery } from '../api/queries'
import { usePrefs } from '../model/prefs'
import { shown, shownUnit } from '../model/units'
import { useBench, useCondition } from '../session/store'
import { ControlList } from './ControlList'
import { Field } from './Field'
import { FigureList } from './FigureList'

const Title = styled.h2`font-size: 16px; font-weight: 600; line-height: 1.25;`
const Sub = styled.p`color: ${(p) => p.theme.quiet}; margin-bottom: 12px;`
const Head = styled.h3`font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 16px 0 2px;`
const Hint = styled.p`color: ${(p) => p.theme.quiet}; margin-top: 16px; font-size: 12px;`

const Tight = styled.div`ul { padding: 0; list-style: none; overflow: visible; } li { border-bottom: 1px solid ${(p) => p.theme.rule}; }`

export function Overview() {
  const project = useBench((s) => s.project)
  const revision = useBench((s) => s.revision)
  const condition = useCondition()
  if (!project) return null
  return (
    <>
      <Title>{project.name}</Title>
      <Sub>
        Whole network{condition ? ` · ${condition.name}` : ''} · revision {revision}
      </Sub>
      <Totals />
      <Head>Automatic control</Head>
      <Tight>
        <ControlList most={3} />
      </Tight>
      <Counts />
      <SettingsForm />
      <Hint>
        Select a bus, a branch or a load to see and change its data. On a bus, G grows something new.
      </Hint>
    </>
  )
}

function Totals() {
  const result = useBench((s) => s.result)
  const s = result?.summary
  const units = usePrefs((p) => p.units)
  if (!s) return null
  const rows = (result?.totals ?? []).filter((t) => t.overview && s[t.name] !== undefined)
  return (
    <FigureList>
      {rows.map((t, n) => (
        <Row
          key={t.name}
          label={rows[n - 1]?.label === t.label ? '' : t.label}
          value={shown(s[t.name], t.unit, t.digits, units)}
          unit={shownUnit(t.unit, units)}
        />
      ))}
    </FigureList>
  )
}

function Row({ label, value, unit }: { label: string; value: string; unit: string }) {
  return (
    <>
      <dt>{label}</dt>
      <dd>{value}</dd>
      <dd>{unit}</dd>
    </>
  )
}

const Counts = memo(function Counts() {
  const items = useBench((s) => s.items)
  const kinds = useQuery(vocabularyQuery).data?.kinds.filter((k) => k.element) ?? []
  const counts = new Map<string, number>()
  for (const item of items.values()) counts.set(item.kind, (counts.get(item.kind) ?? 0) + 1)
  const shown = kinds.filter((k) => counts.get(k.kind))
  return (
    <>
      <Head>Made of</Head>
      <p>
        {shown
          .map(
            (k) => `${counts.get(k.kind)} ${(counts.get(k.kind) === 1 ? k.label : k.plural).toLowerCase()}`,
          )
          .join(', ')}
      </p>
    </>
  )
})

const SettingsForm = memo(function SettingsForm() {
  const settings = useBench((s) => s.items.get('settings'))
  const fields = useQuery(vocabularyQuery).data?.kinds.find((k) => k.kind === 'settings')?.fields ?? []
  if (!settings) return null
  const shown = fields.filter((f) => f.name !== 'name' && f.name !== 'condition')
  const groups: readonly (readonly [string, (group: string) => boolean])[] = [
    ['Settings', (g) => g !== 'phases'],
    ['Per phase: what counts', (g) => g === 'phases'],
  ]
  return (
    <section id="settings" aria-label="Settings" tabIndex={-1}>
      {groups.map(([title, mine]) => (
        <Fragment key={title}>
          <Head>{title}</Head>
          {shown
            .filter((f) => mine(f.group ?? 'data'))
            .map((f) => (
              <Field key={f.name} item={settings} spec={f} />
            ))}
        </Fragment>
      ))}
    </section>
  )
})
