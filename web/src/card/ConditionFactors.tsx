/** The factors of a condition by class, area and energy, each typed in place; and copies of the condition. */
import styled from 'styled-components'
import { Button } from '../design/controls'
import { PercentInput } from '../design/PercentInput'
import { font } from '../design/tokens'
import { type Item, type Items, text } from '../model/items'
import { freeName } from '../session/create'
import { changeOrTell } from '../session/edits'
import { updateOrTell } from '../session/queue'
import { notify, select, useBench } from '../session/store'
import { StatesOf } from './StateHere'

const Head = styled.h3`font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 14px 0 2px;`
const Row = styled.label`
  display: grid; grid-template-columns: minmax(0, 1fr) 80px 20px; gap: 6px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule};
  min-height: 28px; span:last-child { color: ${(p) => p.theme.quiet}; font-size: 12px; }
  input {
    border: 1px solid transparent; border-radius: 4px; background: transparent; text-align: right; font: 400 12.5px ${font.mono}; padding: 3px 6px;
    &:hover { border-color: ${(p) => p.theme.rule}; } &[data-set='true'] { font-weight: 600; }
  }
`
const Acts = styled.div`display: flex; gap: 6px; margin-top: 12px;`

type Factors = Readonly<Record<string, number>>

const TABLES: readonly { field: string; label: string; keys: (items: Items) => Map<string, string> }[] = [
  { field: 'class_factors', label: 'Demand by class', keys: (items) => words(items, 'demand_class') },
  {
    field: 'area_factors',
    label: 'Demand by area',
    keys: (items) => new Map([...items.values()].filter((i) => i.kind === 'area').map((i) => [i.id, i.name])),
  },
  { field: 'energy_factors', label: 'Generation by energy', keys: (items) => words(items, 'energy') },
]

/** Every word that stands in a field of some element. */
function words(items: Items, field: string): Map<string, string> {
  const found = [...items.values()].map((i) => text(i, field)).filter(Boolean)
  return new Map([...new Set(found)].sort().map((w) => [w, w]))
}

export function ConditionFactors({ item }: { item: Item }) {
  const items = useBench((s) => s.items)
  const inUse = items.get('settings')?.condition === item.id
  const copy = async () => {
    const id = freeName(`${item.name}, copy`)
    const made = await changeOrTell(`Copy condition ${item.name}`, [
      { op: 'add', item: { ...item, id, name: id, origins: {} } },
      { op: 'update', id: 'settings', values: { condition: id }, origins: {} },
    ])
    if (made) select(id)
  }
  const drop = () => void changeOrTell(`Remove condition ${item.name}`, [{ op: 'remove', id: item.id }])
  return (
    <>
      {TABLES.map((t) => {
        const keys = t.keys(items)
        return keys.size ? (
          <div key={t.field}>
            <Head>{t.label}</Head>
            {[...keys].map(([key, label]) => (
              <Factor key={key} item={item} field={t.field} of={key} label={label} />
            ))}
          </div>
        ) : null
      })}
      <Head>Otherwise than normal</Head>
      <StatesOf condition={item} />
      <Acts>
        <Button onPress={() => void copy()}>Copy this condition</Button>
        {!inUse && <Button onPress={drop}>Remove it</Button>}
      </Acts>
    </>
  )
}

function Factor(props: { item: Item; field: string; of: string; label: string }) {
  const { item, field, of, label } = props
  const factors = (item[field] ?? {}) as Factors
  const now = factors[of] ?? 1
  const { [of]: _, ...rest } = factors
  return (
    <Row>
      <span>{label}</span>
      <PercentInput
        factor={now}
        onKeep={(factor, percent) =>
          void updateOrTell(
            item,
            { [field]: factor === 1 ? rest : { ...rest, [of]: factor } },
            `Set ${label} to ${percent} % in ${item.name}`,
          )
        }
        onRefuse={(typed, allowed) =>
          notify('problem', `${item.name}, ${label}: “${typed}” is not allowed. ${allowed}`)
        }
      />
      <span>%</span>
    </Row>
  )
}
