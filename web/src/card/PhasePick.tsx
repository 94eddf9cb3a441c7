/** Another phase for a load, a plant or a lateral: one press. */
import styled from 'styled-components'
import type { Item } from '../model/items'
import { phaseName } from '../model/phases'
import { usePrefs } from '../model/prefs'
import { toPhases } from '../session/schemes'
import { select, useBench } from '../session/store'
import { usePhaseChoices } from './usePhaseChoices'

const Row = styled.div`
  display: flex; flex-wrap: wrap; gap: 4px 8px; align-items: center; padding: 4px 0 8px; .quiet { color: ${(p) => p.theme.quiet}; }
  .group { display: flex; border: 1px solid ${(p) => p.theme.rule}; border-radius: 5px; overflow: hidden; }
  .group button { border: none; background: transparent; padding: 0 10px; min-height: 26px; color: ${(p) => p.theme.quiet}; }
  .group button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  .group button:focus-visible { outline-offset: -2px; }
  .link { border: none; background: none; padding: 0; color: ${(p) => p.theme.accent}; min-height: 24px; cursor: pointer; }
`

export function PhasePick({ item }: { item: Item }) {
  const items = useBench((s) => s.items)
  const names = usePrefs((s) => s.phaseNames)
  const data = usePhaseChoices(item)
  if (!data) return null
  const own = data.unit === item.id
  const lateral = items.get(data.unit)
  return (
    <Row>
      <span className="quiet">{data.elements > 1 ? 'Lateral on phase' : 'Phase'}</span>
      <span className="group" role="group" aria-label="Phase">
        {data.choices.map((c) => (
          <button
            type="button"
            key={c}
            aria-pressed={c === data.now}
            onClick={() => c !== data.now && void toPhases(data.unit, c)}
          >
            {phaseName(c, names)}
          </button>
        ))}
      </span>
      {!own && lateral && (
        <button type="button" className="link" onClick={() => select(lateral.id, { reveal: true })}>
          moves with {lateral.name}, {data.elements} elements
        </button>
      )}
      {own && data.elements > 1 && <span className="quiet">{data.elements} elements move with it</span>}
    </Row>
  )
}
