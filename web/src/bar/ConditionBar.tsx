/** What planners change most, as direct controls; at its end the solution badge. */
import styled from 'styled-components'
import { Factor, Figures, IconButton, Pick, Quiet } from '../design/controls'
import { number } from '../model/items'
import { usePrefs, type Way } from '../model/prefs'
import { keepFactors, tryFactors } from '../session/live'
import { updateOrTell } from '../session/queue'
import { lookBy, select, useBench, useCondition, useKind, useSettings } from '../session/store'
import { Badge } from './Badge'
import { SecurityBadge } from './SecurityBadge'

const Bar = styled.section`
  display: flex; align-items: center; gap: 14px; padding: 0 12px 0 16px; height: 46px; background: ${(p) => p.theme.panel};
  border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap;
  /* Narrow windows keep every control and lose words that go without saying. */
  @media (max-width: 1180px) { gap: 9px; padding: 0 8px 0 12px; .label, .quiet { display: none; } }
`
const Group = styled.div`display: flex; align-items: center; gap: 6px; label, .label { color: ${(p) => p.theme.quiet}; }`
const Percent = styled(Figures)`min-width: 48px; text-align: right; font-weight: 500;`
const End = styled.div`margin-left: auto; min-width: 0; overflow: hidden; display: flex; gap: 8px;`

const CONTROL = [
  { id: 'on', label: 'automatic' },
  { id: 'off', label: 'as entered' },
]

const STUDY = [
  { id: 'balanced', label: 'Balanced' },
  { id: 'per_phase', label: 'Per phase' },
]
const WAYS = [
  { id: 'worst', label: 'worst phase' },
  { id: 'phases', label: 'phases' },
  { id: 'sequences', label: 'sequences' },
  { id: 'line', label: 'line to line' },
]

export function ConditionBar() {
  const every = useKind('condition')
  const tried = useBench((s) => s.trying?.demand)
  const fed = useBench((s) => s.trying?.generation)
  const way = usePrefs((s) => s.way)
  const settings = useSettings()
  const condition = useCondition()
  if (!settings || !condition) return <Bar aria-label="Condition" />
  const conditions = every.map((i) => ({ id: i.id, label: i.name }))
  const demand = tried ?? number(condition, 'demand_factor') ?? 1
  const generation = fed ?? number(condition, 'generation_factor') ?? 1
  const choose = (id: string) => {
    const name = conditions.find((c) => c.id === id)?.label
    if (id !== condition.id) void updateOrTell(settings, { condition: id }, `Choose condition ${name}`)
  }
  return (
    <Bar aria-label="Condition">
      <Group>
        <span className="label">Condition</span>
        <Pick label="Condition" hideLabel value={condition.id} choices={conditions} onChange={choose} />
        <IconButton icon="palette" label="Factors of this condition" onPress={() => select(condition.id)} />
      </Group>
      <Factor
        label="demand"
        value={Math.round(demand * 100)}
        max={200}
        onTry={(v) => tryFactors({ demand: v / 100 })}
        onKeep={(v) => void keepFactors(condition, { demand: v / 100 })}
      >
        <Percent data-testid="demand">{Math.round(demand * 100)} %</Percent>
      </Factor>
      <Factor
        label="generation"
        value={Math.round(generation * 100)}
        max={200}
        onTry={(v) => tryFactors({ generation: v / 100 })}
        onKeep={(v) => void keepFactors(condition, { generation: v / 100 })}
      >
        <Percent>{Math.round(generation * 100)} %</Percent>
      </Factor>
      <Group title="Automatic taps, regulators, capacitor steps and inverters on a curve. What each of them did stands in the account of the solution.">
        <Quiet className="quiet">control</Quiet>
        <Pick
          label="Automatic control"
          hideLabel
          value={settings.automatic === false ? 'off' : 'on'}
          choices={CONTROL}
          onChange={(c) =>
            void updateOrTell(settings, { automatic: c === 'on' }, `Switch automatic control ${c}`)
          }
        />
      </Group>
      <Group title="Balanced: one phase stands for all three. Per phase: every conductor, neutral and earth.">
        <Pick
          label="Load flow"
          hideLabel
          value={settings.study === 'per_phase' ? 'per_phase' : 'balanced'}
          choices={STUDY}
          onChange={(s) =>
            void updateOrTell(settings, { study: s }, `Solve ${s === 'balanced' ? 'balanced' : 'per phase'}`)
          }
        />
        {settings.study === 'per_phase' && (
          <Pick label="Results by" hideLabel value={way} choices={WAYS} onChange={(w) => lookBy(w as Way)} />
        )}
      </Group>
      <End data-tight={settings.study === 'per_phase' ? 'phases' : 'one'}>
        <SecurityBadge />
        <Badge />
      </End>
    </Bar>
  )
}
