/** The sweep: one number over a range, or all conditions, with taps on and off; plotted and as a table. */
import { useMemo } from 'react'
import styled from 'styled-components'
import { Button, Pick, Primary } from '../../design/controls'
import { parseNumber } from '../../design/format'
import { font } from '../../design/tokens'
import { usePrefs } from '../../model/prefs'
import { tableOf } from '../../model/results'
import { shownUnit } from '../../model/units'
import { useKept } from '../../session/kept'
import { useBench } from '../../session/store'
import { FigureCell } from '../../shelf/FigureCell'
import { FigurePlot } from '../../shelf/FigurePlot'
import { ResultGrid } from '../../shelf/tables/ResultGrid'
import { type StudyTable, useStudy } from '../useStudy'

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0; height: 100%;`
const Tools = styled.div`
  display: flex; flex-wrap: wrap; gap: 3px 10px; align-items: center; padding: 4px 16px; border-bottom: 1px solid ${(p) => p.theme.rule}; white-space: nowrap;
  label { display: flex; gap: 5px; align-items: center; color: ${(p) => p.theme.quiet}; }
  input { width: 54px; height: 26px; text-align: right; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.panel}; padding: 0 5px; font: 400 12.5px ${font.mono}; }
  progress { width: 120px; accent-color: ${(p) => p.theme.accent}; } .stale { color: ${(p) => p.theme.breach}; } .quiet { color: ${(p) => p.theme.quiet}; }
`
const Both = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); min-height: 0;
  > div { min-height: 0; overflow: auto; } > div:first-child { overflow: hidden; border-right: 1px solid ${(p) => p.theme.rule}; }
  table { border-collapse: collapse; font: 400 12px ${font.mono}; width: 100%; }
  th { position: sticky; top: 0; background: ${(p) => p.theme.paper}; font: 400 11.5px/1.2 ${font.sans}; color: ${(p) => p.theme.quiet}; }
  th, td { padding: 2px 8px; text-align: right; white-space: nowrap; border-bottom: 1px solid ${(p) => p.theme.rule}; }
  th:first-child, td:first-child { text-align: left; padding-left: 12px; }
  td button { border: none; background: none; color: ${(p) => p.theme.accent}; padding: 0; font: 400 12px ${font.sans}; cursor: pointer; min-height: 24px; }
  tr[data-bad='true'] td { color: ${(p) => p.theme.breach}; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet}; max-width: 640px;`

const WHAT = [
  { id: 'demand_factor', label: 'demand' },
  { id: 'generation_factor', label: 'generation' },
  { id: 'conditions', label: 'all conditions' },
]
const MODES = [
  { id: 'both', label: 'off, then on' },
  { id: 'on', label: 'on' },
  { id: 'off', label: 'off' },
]
const SIDES = [
  { id: 'points', label: 'points' },
  { id: 'buses', label: 'every voltage' },
  { id: 'branches', label: 'every loading' },
]
export function Sweep() {
  const revision = useBench((s) => s.revision)
  const [quantity, setQuantity] = useKept('sweep quantity', 'demand_factor')
  const [range, setRange] = useKept('sweep range', { start: '30', stop: '140', steps: '12' })
  const [automatic, setAutomatic] = useKept('sweep automatic', 'both')
  const [plot, setPlot] = useKept('sweep plot', 'voltage')
  const study = useStudy('sweep')
  const [side, setSide] = useKept('sweep side', 'points')
  const start = () =>
    void study.run({
      quantity,
      automatic,
      ...(quantity === 'conditions'
        ? {}
        : {
            start: parseNumber(range.start) / 100,
            stop: parseNumber(range.stop) / 100,
            steps: Math.round(parseNumber(range.steps)),
          }),
    })
  const points = study.result?.tables.points
  const figures = study.result?.figures ?? []
  const figure = figures.find((f) => f.name === plot) ?? figures[0]
  const shown = study.result?.tables[side]
  const table = useMemo(() => shown && tableOf(shown), [shown])
  const field = (name: keyof typeof range, label: string) => (
    <label>
      {label}
      <input
        aria-label={label}
        value={range[name]}
        onChange={(e) => setRange({ ...range, [name]: e.currentTarget.value })}
        onKeyDown={(e) => {
          e.stopPropagation()
          if (e.key === 'Enter') start()
        }}
      />
    </label>
  )
  return (
    <Frame>
      <Tools>
        <Pick label="Sweep" value={quantity} choices={WHAT} onChange={setQuantity} />
        {quantity !== 'conditions' && (
          <>
            {field('start', 'from')}
            {field('stop', 'to')}
            <span className="quiet">%</span>
            {field('steps', 'points')}
          </>
        )}
        <Pick label="automatic control" value={automatic} choices={MODES} onChange={setAutomatic} />
        {study.running ? (
          <>
            <progress max={1} value={study.running.fraction} aria-label="Progress" />
            <span className="quiet">{study.running.doing}</span>
            <Button onPress={study.cancel}>Cancel</Button>
          </>
        ) : (
          <Primary onPress={start}>Run</Primary>
        )}
        {points && study.result?.tables.buses && (
          <Pick label="Table" hideLabel value={side} choices={SIDES} onChange={setSide} />
        )}
        {points && (
          <Pick
            label="Plot"
            hideLabel
            value={plot}
            choices={figures.map((f) => ({ id: f.name, label: f.label.toLowerCase() }))}
            onChange={setPlot}
          />
        )}
        {points && study.partial && <span className="stale">so far</span>}
        {points && study.revision !== revision && <span className="stale">out of date</span>}
      </Tools>
      {study.problem && <None role="alert">{study.problem}</None>}
      {!points && !study.problem && (
        <None>
          Solves the load flow at every point, from the last one’s answer, and keeps all of them side by side:
          how the lowest voltage, the losses and the worst loading move with demand, with and without
          automatic taps.
        </None>
      )}
      {points && (
        <Both>
          <div>{figure && <FigurePlot figure={figure} />}</div>
          <div>
            {side === 'points' || !table || !study.address ? (
              <PointTable points={points} />
            ) : (
              <ResultGrid key={side} table={table} address={study.address} />
            )}
          </div>
        </Both>
      )}
    </Frame>
  )
}

const column = (t: StudyTable, name: string) => t.columns.find((c) => c.name === name)?.values ?? []

const SHOWN = [
  'id',
  'demand_mw',
  'active_loss_mw',
  'lowest_voltage_pu',
  'lowest_voltage_at',
  'highest_voltage_pu',
  'highest_loading_pct',
  'highest_loading_at',
  'breaches',
  'taps_moved',
]

function PointTable({ points }: { points: StudyTable }) {
  const units = usePrefs((s) => s.units)
  const columns = SHOWN.flatMap((n) => points.columns.filter((c) => c.name === n))
  const state = column(points, 'state') as string[]
  return (
    <table aria-label="Points of the sweep">
      <thead>
        <tr>
          {columns.map((c) => (
            <th key={c.name}>
              {c.label}
              <br />
              {shownUnit(c.unit, units) || '\u00a0'}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {state.map((s, r) => (
          <tr key={String(columns[0]?.values?.[r])} data-bad={s !== 'converged'}>
            {columns.map((c) => (
              <FigureCell key={c.name} column={c} value={c.values?.[r]} />
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
