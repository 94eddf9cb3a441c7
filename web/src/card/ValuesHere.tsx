/** Values of an element that hold only under the condition in use: control, set-points, taps, steps. */
import { useState } from 'react'
import styled from 'styled-components'
import type { FieldSpec, Kind } from '../api/client'
import { IconButton, Pick } from '../design/controls'
import { exact, parseNumber } from '../design/format'
import { font } from '../design/tokens'
import { type Item, number } from '../model/items'
import { OPERATED, SET } from '../model/operated'
import { updateOrTell } from '../session/queue'
import { notify, useCondition } from '../session/store'

const Box = styled.div`
  padding: 6px 0; border-bottom: 1px solid ${(p) => p.theme.rule};
  .line { display: grid; grid-template-columns: 112px minmax(0, 1fr) 44px 28px; gap: 0 8px; align-items: center; min-height: 28px; }
  .label, .unit { color: ${(p) => p.theme.quiet}; } .unit { font-size: 12px; }
  input { width: 100%; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.panel}; text-align: right; font: 400 12.5px ${font.mono}; padding: 2px 6px; height: 26px; }
  .add { color: ${(p) => p.theme.quiet}; display: flex; gap: 4px; align-items: center; }
`

type Values = Readonly<Record<string, Readonly<Record<string, unknown>>>>

export function ValuesHere({ item, kind }: { item: Item; kind: Kind }) {
  const condition = useCondition()
  if (!condition || !OPERATED.has(item.kind)) return null
  const all = (condition.values ?? {}) as Values
  const mine = all[item.id] ?? {}
  const fields = kind.fields.filter((f) => SET.has(f.name))
  const put = (values: Readonly<Record<string, unknown>>, words: string) => {
    const { [item.id]: _, ...rest } = all
    const next = Object.keys(values).length ? { ...rest, [item.id]: values } : rest
    void updateOrTell(condition, { values: next }, `${item.name}: ${words} in ${condition.name}`)
  }
  const set = (f: FieldSpec, value: unknown) => put({ ...mine, [f.name]: value }, f.label.toLowerCase())
  const drop = (f: FieldSpec) => {
    const { [f.name]: _, ...rest } = mine
    put(rest, `${f.label.toLowerCase()} as normal`)
  }
  const open = fields.filter((f) => !(f.name in mine))
  return (
    <Box title={`Only under the condition ${condition.name}`}>
      {fields
        .filter((f) => f.name in mine)
        .map((f) => (
          <div className="line" key={f.name}>
            <span className="label">{f.label}</span>
            <Here
              spec={f}
              item={item}
              value={mine[f.name]}
              onChange={(v) => set(f, v)}
              where={condition.name}
            />
            <span className="unit">{f.shown_unit === '1' ? '' : f.shown_unit}</span>
            <IconButton icon="close" label={`${f.label} as normal`} onPress={() => drop(f)} />
          </div>
        ))}
      <div className="add">
        <span>Only in {condition.name}:</span>
        <Pick
          label="Set only in this condition"
          hideLabel
          value={null}
          placeholder="set …"
          choices={open.map((f) => ({ id: f.name, label: f.label }))}
          onChange={(name) => {
            const f = open.find((o) => o.name === name)
            if (f) set(f, item[f.name] ?? f.default)
          }}
        />
      </div>
    </Box>
  )
}

/** The range of a field, narrower where the element itself says so. */
function rangeOf(item: Item, spec: FieldSpec): [number, number] {
  const low = spec.minimum ?? Number.NEGATIVE_INFINITY
  const high = spec.maximum ?? Number.POSITIVE_INFINITY
  if (spec.name === 'tap_position') return [number(item, 'tap_min') ?? low, number(item, 'tap_max') ?? high]
  if (spec.name === 'steps_on') return [0, number(item, 'steps') ?? high]
  return [low, high]
}

function Here(props: {
  item: Item
  spec: FieldSpec
  value: unknown
  onChange: (v: unknown) => void
  where: string
}) {
  const { spec, item, value, onChange, where } = props
  const [draft, setDraft] = useState<string | null>(null)
  const label = `${spec.label} in ${where}`
  if (spec.type === 'choice' || spec.type === 'yes_no') {
    const words = spec.type === 'yes_no' ? ['yes', 'no'] : (spec.choices ?? [])
    const now = spec.type === 'yes_no' ? (value ? 'yes' : 'no') : String(value)
    return (
      <Pick
        label={label}
        hideLabel
        value={now}
        choices={words.map((id) => ({ id, label: id.replaceAll('_', ' ') }))}
        onChange={(v) => onChange(spec.type === 'yes_no' ? v === 'yes' : v)}
      />
    )
  }
  const factor = spec.shown_factor ?? 1
  const keep = () => {
    const typed = draft
    setDraft(null)
    if (typed === null) return
    const figure = parseNumber(typed) / factor
    const [low, high] = rangeOf(item, spec)
    const whole = spec.type !== 'integer' || Number.isInteger(figure)
    if (!(figure >= low && figure <= high && whole))
      return notify(
        'problem',
        `${label}: “${typed}” is not allowed. Enter a ${spec.type === 'integer' ? 'whole ' : ''}number from ${low} to ${high}.`,
      )
    onChange(figure)
  }
  return (
    <input
      aria-label={label}
      value={draft ?? exact(Number(value), factor)}
      onChange={(e) => setDraft(e.currentTarget.value)}
      onBlur={keep}
      onKeyDown={(e) => {
        e.stopPropagation()
        if (e.key === 'Enter') e.currentTarget.blur()
        if (e.key === 'Escape') setDraft(null)
      }}
    />
  )
}
