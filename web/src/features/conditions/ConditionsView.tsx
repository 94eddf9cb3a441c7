/** Conditions side by side, each factor editable in its cell. */
import styled from 'styled-components'
import { Plain } from '../../design/controls'
import { PercentInput } from '../../design/PercentInput'
import { font } from '../../design/tokens'
import { type Item, type Items, number, text } from '../../model/items'
import { freeName } from '../../session/create'
import { changeOrTell } from '../../session/edits'
import { updateOrTell } from '../../session/queue'
import { notify, select, useBench } from '../../session/store'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%; min-height: 0;`
const Bar = styled.div`
  display: flex; gap: 4px; padding: 4px 12px; border-bottom: 1px solid ${(p) => p.theme.rule}; align-items: center; white-space: nowrap;
  button[aria-pressed] { border: none; background: transparent; padding: 2px 8px; min-height: 24px; border-radius: 4px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
`
const Scroll = styled.div`
  overflow: auto; min-height: 0; &:focus-visible { outline-offset: -3px; }
  table { border-collapse: collapse; }
  th, td { padding: 2px 8px; text-align: right; white-space: nowrap; border-bottom: 1px solid ${(p) => p.theme.rule}; min-width: 110px; height: 28px; }
  thead th { position: sticky; top: 0; background: ${(p) => p.theme.paper}; z-index: 1; font-weight: 500; }
  th:first-child { text-align: left; padding-left: 16px; font-weight: 400; color: ${(p) => p.theme.quiet}; min-width: 210px; position: sticky; left: 0; background: ${(p) => p.theme.paper}; }
  [data-differs='true'] input, [data-differs='true'] { font-weight: 600; }
  [data-active='true'] { background: ${(p) => p.theme.accentWash}; }
  input {
    width: 78px; border: 1px solid transparent; border-radius: 4px; background: transparent; text-align: right; font: 400 12.5px ${font.mono}; padding: 2px 5px;
    &:hover, &:focus { border-color: ${(p) => p.theme.rule}; background: ${(p) => p.theme.panel}; }
  }
  select { background: transparent; border: 1px solid transparent; font: inherit; color: inherit; &:hover { border-color: ${(p) => p.theme.rule}; } }
  thead button { border: none; background: none; font: inherit; color: ${(p) => p.theme.accent}; cursor: pointer; min-height: 24px; }
  .unit { color: ${(p) => p.theme.quiet}; padding-left: 3px; }
`

type Factors = Readonly<Record<string, number>>

interface Line {
  readonly key: string
  readonly label: string
  readonly read: (c: Item) => number
  readonly write: (c: Item, value: number) => Record<string, unknown>
}

const one = (field: string, label: string): Line => ({
  key: field,
  label,
  read: (c) => number(c, field) ?? 1,
  write: (_, value) => ({ [field]: value }),
})

const part = (field: string, of: string, label: string): Line => ({
  key: `${field} ${of}`,
  label,
  read: (c) => ((c[field] ?? {}) as Factors)[of] ?? 1,
  write: (c, value) => {
    const { [of]: _, ...rest } = (c[field] ?? {}) as Factors
    return { [field]: value === 1 ? rest : { ...rest, [of]: value } }
  },
})

function linesOf(items: Items): Line[] {
  const words = (field: string) =>
    [...new Set([...items.values()].map((i) => text(i, field)).filter(Boolean))].sort()
  const areas = [...items.values()].filter((i) => i.kind === 'area')
  return [
    one('demand_factor', 'Demand'),
    one('generation_factor', 'Generation'),
    ...words('demand_class').map((w) => part('class_factors', w, `Demand, ${w}`)),
    ...areas.map((a) => part('area_factors', a.id, `Demand in ${a.name}`)),
    ...words('energy').map((w) => part('energy_factors', w, `Generation, ${w}`)),
  ]
}

export function ConditionsView() {
  return (
    <Frame>
      <Bar role="toolbar" aria-label="Conditions">
        <Plain onPress={() => void copyActive()}>Copy the one in use</Plain>
      </Bar>
      <Matrix />
    </Frame>
  )
}

async function copyActive() {
  const { items } = useBench.getState()
  const now = items.get(String(items.get('settings')?.condition))
  if (!now) return
  const id = freeName(`${now.name}, copy`)
  await changeOrTell(`Copy condition ${now.name}`, [
    { op: 'add', item: { ...now, id, name: id, origins: {} } },
    { op: 'update', id: 'settings', values: { condition: id }, origins: {} },
  ])
}

/** Rows of factors, a column for each condition; what differs from the one in use stands out. */
function Matrix() {
  const items = useBench((s) => s.items)
  const settings = items.get('settings')
  const active = items.get(String(settings?.condition))
  const conditions = [...items.values()].filter((i) => i.kind === 'condition')
  if (!settings || !active) return null
  return (
    <Scroll tabIndex={0} role="region" aria-label="Conditions side by side">
      <table>
        <thead>
          <tr>
            <th>Factor</th>
            {conditions.map((c) => (
              <th key={c.id} data-active={c.id === active.id}>
                <button
                  type="button"
                  title={c.id === active.id ? 'In use' : 'Use this condition'}
                  onClick={() =>
                    void updateOrTell(settings, { condition: c.id }, `Choose condition ${c.name}`)
                  }
                >
                  {c.name}
                  {c.id === active.id ? ' ✓' : ''}
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {linesOf(items).map((line) => (
            <tr key={line.key}>
              <th>{line.label}</th>
              {conditions.map((c) => (
                <td
                  key={c.id}
                  data-active={c.id === active.id}
                  data-differs={line.read(c) !== line.read(active)}
                >
                  <FactorCell condition={c} line={line} />
                </td>
              ))}
            </tr>
          ))}
          <tr>
            <th>Limits</th>
            {conditions.map((c) => (
              <td key={c.id} data-active={c.id === active.id}>
                <select
                  aria-label={`Limits, ${c.name}`}
                  value={text(c, 'limit_set') || 'normal'}
                  onChange={(e) =>
                    void updateOrTell(
                      c,
                      { limit_set: e.currentTarget.value },
                      `Choose ${e.currentTarget.value.replace('_', ' ')} limits in ${c.name}`,
                    )
                  }
                >
                  <option value="normal">normal</option>
                  <option value="emergency">emergency</option>
                  <option value="short_time">short time</option>
                </select>
              </td>
            ))}
          </tr>
          <tr>
            <th>Otherwise than normal</th>
            {conditions.map((c) => (
              <td key={c.id} data-active={c.id === active.id} title={otherwise(c, items)}>
                <Plain onPress={() => select(c.id)}>{countOtherwise(c)}</Plain>
              </td>
            ))}
          </tr>
        </tbody>
      </table>
    </Scroll>
  )
}

const countOtherwise = (c: Item) => {
  const n = Object.keys((c.states ?? {}) as object).length + Object.keys((c.values ?? {}) as object).length
  return n ? `${n} ${n === 1 ? 'element' : 'elements'}` : 'none'
}

function otherwise(c: Item, items: Items): string {
  const states = Object.entries((c.states ?? {}) as Record<string, string>).map(
    ([id, s]) => `${items.get(id)?.name ?? id}: ${s}`,
  )
  const values = Object.entries((c.values ?? {}) as Record<string, Record<string, unknown>>).map(
    ([id, v]) =>
      `${items.get(id)?.name ?? id}: ${Object.entries(v)
        .map(([f, x]) => `${f} ${x}`)
        .join(', ')}`,
  )
  return [...states, ...values].join('\n')
}

function FactorCell({ condition, line }: { condition: Item; line: Line }) {
  return (
    <>
      <PercentInput
        label={`${line.label}, ${condition.name}`}
        factor={line.read(condition)}
        onKeep={(factor, percent) =>
          void updateOrTell(
            condition,
            line.write(condition, factor),
            `Set ${line.label} to ${percent} % in ${condition.name}`,
          )
        }
        onRefuse={(typed, allowed) =>
          notify('problem', `${condition.name}, ${line.label}: “${typed}” is not allowed. ${allowed}`)
        }
      />
      <span className="unit">%</span>
    </>
  )
}
