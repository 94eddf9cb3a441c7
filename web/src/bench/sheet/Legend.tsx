/** What the colours of the sheet mean, and which of them to show. */
import { useQuery } from '@tanstack/react-query'
import styled, { useTheme } from 'styled-components'
import { feedersQuery } from '../../api/queries'
import { Pick } from '../../design/controls'
import { fixed, power } from '../../design/format'
import { font } from '../../design/tokens'
import { type Result, values } from '../model'
import { type Lens, selectMany, useBench } from '../store'
import { DIFFERENCE_DOMAIN, LOADING_DOMAIN, VOLTAGE_DOMAIN } from './lens'

const Box = styled.div`
  position: absolute; left: 12px; bottom: 12px; display: flex; align-items: center; gap: 18px; padding: 3px 12px; border-radius: 6px;
  background: ${(p) => p.theme.paper}; border: 1px solid ${(p) => p.theme.rule}; height: 38px;
  .label { color: ${(p) => p.theme.quiet}; }
`
const Part = styled.div`width: 132px;`
const Scale = styled.div<{ $stops: readonly string[] }>`
  height: 6px; background: linear-gradient(90deg, ${(p) => p.$stops.join(', ')});
`
const Ends = styled.div`
  display: flex; justify-content: space-between; font: 400 11px/1.2 ${font.mono}; color: ${(p) => p.theme.quiet}; margin-top: 2px;
`
const Row = styled.div`display: flex; align-items: center; gap: 2px;`

const LENSES: { id: Lens; label: string }[] = [
  { id: 'both', label: 'voltage & loading' },
  { id: 'voltage', label: 'voltage' },
  { id: 'loading', label: 'loading' },
  { id: 'losses', label: 'losses' },
  { id: 'feeder', label: 'feeders' },
  { id: 'plain', label: 'none' },
]

/** A colour ramp with the figures it stands for; the unit after the last one. */
function Ramp(props: { stops: readonly string[]; ends: readonly string[]; unit?: string }) {
  const last = props.ends.length - 1
  return (
    <Part>
      <Scale $stops={props.stops} />
      <Ends>
        {props.ends.map((end, i) => (
          <span key={end}>
            {end}
            {i === last && props.unit ? ` ${props.unit}` : ''}
          </span>
        ))}
      </Ends>
    </Part>
  )
}

const DIFFERENCE = { id: 'difference', label: 'difference from pinned' }

const worstLoss = (result: Result | null) =>
  (values(result?.tables.branches, 'active_loss_mw') as (number | null)[]).reduce<number>(
    (m, v) => Math.max(m, v ?? 0),
    0,
  )

export function Legend() {
  const theme = useTheme()
  const lens = useBench((s) => s.lens)
  const pinned = useBench((s) => s.pinned)
  const result = useBench((s) => s.result)
  return (
    <Box>
      <Row>
        <span className="label">Lens</span>
        <Pick
          label="Lens"
          hideLabel
          value={lens}
          choices={pinned ? [...LENSES, DIFFERENCE] : LENSES}
          onChange={(id) => useBench.setState({ lens: id as Lens })}
        />
      </Row>
      {lens === 'feeder' && <FeederKey />}
      {lens === 'difference' && (
        <Ramp stops={theme.voltage} ends={DIFFERENCE_DOMAIN.map((v) => fixed(v, 2))} unit="p.u." />
      )}
      {lens === 'losses' && <Ramp stops={theme.loading} ends={['0', power(worstLoss(result))]} />}
      {(lens === 'both' || lens === 'voltage') && (
        <Ramp stops={theme.voltage} ends={VOLTAGE_DOMAIN.map((v) => fixed(v, 2))} unit="p.u." />
      )}
      {(lens === 'both' || lens === 'loading') && (
        <Ramp
          stops={theme.loading.map((c, i) => `${c} ${LOADING_DOMAIN[i]}%`)}
          ends={LOADING_DOMAIN.map(String)}
          unit="%"
        />
      )}
    </Box>
  )
}

const Keys = styled.div`
  display: flex; gap: 4px 12px; max-width: 480px; overflow-x: auto; scrollbar-width: none;
  button { border: none; background: none; padding: 0; display: flex; align-items: center; gap: 5px; white-space: nowrap; cursor: pointer; }
  i { width: 12px; height: 4px; display: block; }
`

/** Every feeder with its colour; choosing one selects its buses. */
function FeederKey() {
  const theme = useTheme()
  const { project, revision } = useBench()
  const { data } = useQuery({
    ...feedersQuery(project?.id ?? '', revision),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  const found = data?.feeders ?? []
  if (!found.length) return <span className="label">no feeders</span>
  return (
    <Keys tabIndex={0} role="group" aria-label="Feeders">
      {found.map((f, n) => (
        <button type="button" key={f.id} onClick={() => selectMany(f.buses)}>
          <i style={{ background: theme.feeders[n % theme.feeders.length] }} />
          {f.name}
        </button>
      ))}
    </Keys>
  )
}
