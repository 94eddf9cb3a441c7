/** The schemes of a plan with the year each comes into service: years typed in place, schemes added and taken away. */
import { useEffect, useState } from 'react'
import styled from 'styled-components'
import { IconButton, Pick } from '../design/controls'
import { font } from '../design/tokens'
import type { Item } from '../model/items'
import { updateOrTell } from '../session/queue'
import { schemesOf } from '../session/schemes'
import { notify, select, useBench } from '../session/store'

const Head = styled.h3`font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 14px 0 2px;`
const Row = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) 74px 28px; gap: 6px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 30px;
  button.name { border: none; background: none; padding: 0; min-height: 24px; text-align: left; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; color: ${(p) => p.theme.accent}; }
  input { border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: transparent; text-align: right; font: 400 12.5px ${font.mono}; padding: 3px 6px; min-width: 0; }
`
const None = styled.p`color: ${(p) => p.theme.quiet}; padding: 4px 0;`

interface Step {
  readonly scheme: string
  readonly year: number
}

export function PlanSteps({ item }: { item: Item }) {
  const items = useBench((s) => s.items)
  const steps = (item.steps ?? []) as readonly Step[]
  const schemes = schemesOf(items)
  const keep = (next: readonly Step[], what: string) =>
    void updateOrTell(item, { steps: [...next].sort((a, b) => a.year - b.year) }, `${what} ${item.name}`)
  const rest = schemes.filter((s) => !steps.some((x) => x.scheme === s.id))
  const last = steps.at(-1)?.year
  return (
    <section aria-label="Schemes by year">
      <Head>Schemes by year</Head>
      {steps.map((s) => (
        <Row key={s.scheme}>
          <button type="button" className="name" onClick={() => items.has(s.scheme) && select(s.scheme)}>
            {items.get(s.scheme)?.name ?? `${s.scheme}, which is not there`}
          </button>
          <Year
            name={items.get(s.scheme)?.name ?? s.scheme}
            year={s.year}
            keep={(year) =>
              keep(
                steps.map((x) => (x.scheme === s.scheme ? { ...x, year } : x)),
                'Change a year of',
              )
            }
          />
          <IconButton
            icon="close"
            label={`Take ${items.get(s.scheme)?.name ?? s.scheme} out of the plan`}
            onPress={() =>
              keep(
                steps.filter((x) => x.scheme !== s.scheme),
                'Take a scheme out of',
              )
            }
          />
        </Row>
      ))}
      {!steps.length && <None>No scheme yet: add one, then its year.</None>}
      {rest.length > 0 && (
        <Pick
          label="Add a scheme"
          hideLabel
          placeholder="add a scheme …"
          value={null}
          choices={rest.map((s) => ({ id: s.id, label: s.name }))}
          onChange={(scheme) => {
            const own = rest.find((s) => s.id === scheme)?.year
            const year = typeof own === 'number' ? own : (last ?? new Date().getFullYear())
            keep([...steps, { scheme, year }], 'Add a scheme to')
          }}
        />
      )}
    </section>
  )
}

function Year({ name, year, keep }: { name: string; year: number; keep: (year: number) => void }) {
  const [text, setText] = useState(String(year))
  useEffect(() => setText(String(year)), [year])
  const done = () => {
    const next = Number(text)
    if (Number.isInteger(next) && next >= 1900 && next <= 2200) {
      if (next !== year) keep(next)
      return
    }
    notify('problem', `${name}: “${text}” is no year from 1900 to 2200.`)
    setText(String(year))
  }
  return (
    <input
      aria-label={`Year of ${name}`}
      inputMode="numeric"
      value={text}
      onChange={(e) => setText(e.currentTarget.value)}
      onBlur={done}
      onKeyDown={(e) => {
        e.stopPropagation()
        if (e.key === 'Enter') e.currentTarget.blur()
        if (e.key === 'Escape') setText(String(year))
      }}
    />
  )
}
