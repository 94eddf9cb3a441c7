/** What an operator sets; everything else is the network's. It may differ from condition to condition. */
export const SET = new Set([
  'control', 'voltage_pu', 'reactive_power_mvar', 'power_factor', 'active_power_mw', 'tap_position', 'regulates',
  'automatic', 'target_pu', 'steps_on', 'holds_flow', 'flow_mw', 'phase_shift_deg', 'scheduled_mw', 'participation',
]) // biome-ignore format: a list of words

export const OPERATED = new Set([
  'generator',
  'inverter',
  'source',
  'transformer',
  'three_winding',
  'regulator',
  'shunt',
  'filter',
])

type Offered = { change?: { op?: string; id?: string; values?: Record<string, unknown> } }
type Values = Readonly<Record<string, Readonly<Record<string, unknown>>>>
type Into = { values: Values; states: Readonly<Record<string, string>>; left: number }

/** Changes that a study offers, as values and states of a condition; `left`: how many a condition can't hold. */
export function inCondition(
  offered: readonly Offered[],
  kinds: (id: string) => string | undefined,
  values: Values,
  states: Readonly<Record<string, string>>,
): Into {
  const found = { values: { ...values }, states: { ...states }, left: 0 }
  for (const { change } of offered) {
    const id = change?.id
    if (change?.op !== 'update' || !id) {
      found.left += 1
      continue
    }
    for (const [field, value] of Object.entries(change.values ?? {})) {
      if (field === 'closed') found.states[id] = value ? 'closed' : 'open'
      else if (field === 'in_service') found.states[id] = value ? 'in' : 'out'
      else if (SET.has(field) && OPERATED.has(kinds(id) ?? '')) {
        found.values[id] = { ...found.values[id], [field]: value }
      } else found.left += 1
    }
  }
  return found
}
