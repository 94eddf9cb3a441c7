/** What the colours of the sheet mean, and which of them to show. */
import { useQuery } from '@tanstack/react-query'
import { DialogTrigger } from 'react-aria-components'
import styled, { useTheme } from 'styled-components'
import { feedersQuery } from '../api/queries'
import { Pick, Plain, Popover } from '../design/controls'
import { fixed, parseNumber, power, significant } from '../design/format'
import { font } from '../design/tokens'
import { PHASE_DASH, phaseName } from '../model/phases'
import { BANDS, type Bands, setPrefs, usePrefs, type Way } from '../model/prefs'
import { hasPhases, type Result, values } from '../model/results'
import { type Lens, selectMany, useBench } from '../session/store'
import { STRAND_LENSES } from './paint'

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
  { id: 'drop', label: 'voltage drop' },
  { id: 'factor', label: 'power factor' },
  { id: 'flow', label: 'flow' },
  { id: 'feeder', label: 'feeders' },
  { id: 'area', label: 'areas' },
  { id: 'supply', label: 'supply' },
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

/** Figures of a scale, few enough digits to be read. */
const ends = (band: readonly number[], digits: number) => band.map((v) => fixed(v, digits))

export function Legend() {
  const lens = useBench((s) => s.lens)
  const pinned = useBench((s) => s.pinned)
  const study = useBench((s) => s.study)
  const choices = [
    ...LENSES,
    ...(pinned ? [DIFFERENCE] : []),
    ...(study ? [{ id: 'study', label: study.label }] : []),
  ]
  return (
    <Box>
      <Row>
        <span className="label">Lens</span>
        <Pick
          label="Lens"
          hideLabel
          value={lens}
          choices={choices}
          onChange={(id) => useBench.setState({ lens: id as Lens })}
        />
      </Row>
      <Scales />
      <StrandKey />
      <Options />
    </Box>
  )
}

/** Which strand of a branch, and which part of a bar, is which phase. */
function StrandKey() {
  const theme = useTheme()
  const lens = useBench((s) => s.lens)
  const result = useBench((s) => s.result)
  const { way, phaseNames } = usePrefs()
  const parts = STRANDS[way]
  if (!parts || !hasPhases(result) || !STRAND_LENSES.includes(lens)) return null
  return (
    <Keys
      role="note"
      aria-label="Strands"
      title="Bars from the left or from the top; strands of branches in this order"
    >
      {parts.map((p) => (
        <span className="strand" key={p}>
          <svg width="20" height="6" aria-hidden="true">
            <path d="M0 3H20" stroke={theme.ink} strokeWidth={1.6} strokeDasharray={PHASE_DASH[p]} />
          </svg>
          {phaseName(p, phaseNames)}
        </span>
      ))}
    </Keys>
  )
}

const STRANDS: Readonly<Partial<Record<Way, readonly string[]>>> = {
  phases: ['A', 'B', 'C'],
  line: ['AB', 'BC', 'CA'],
}

/** The scale of the lens that is on. */
function Scales() {
  const theme = useTheme()
  const lens = useBench((s) => s.lens)
  const result = useBench((s) => s.result)
  const study = useBench((s) => s.study)
  const { bands } = usePrefs()
  const stops = theme.loading
  const most = (v: number) => significant(v, 2)
  switch (lens) {
    case 'feeder':
      return <FeederKey />
    case 'area':
      return <AreaKey />
    case 'difference':
      return <Ramp stops={theme.voltage} ends={ends(bands.difference, 2)} unit="p.u." />
    case 'losses':
      return <Ramp stops={stops} ends={['0', power(worstLoss(result))]} />
    case 'drop':
      return <Ramp stops={stops} ends={ends(bands.drop, 1)} unit="%" />
    case 'factor':
      return <Ramp stops={stops} ends={ends([bands.factor[1], bands.factor[0]], 2)} unit="cos φ" />
    case 'flow':
      return <span className="label">width by active power</span>
    case 'supply':
      return <span className="label">drawn hollow: without supply</span>
    case 'study':
      return (
        <Ramp
          stops={study?.grows ? stops : theme.voltage}
          ends={study ? [...(study.grows ? [] : [most(-study.most)]), '0', most(study.most)] : []}
          unit={study?.unit}
        />
      )
    case 'plain':
      return null
    default:
      return (
        <>
          {lens !== 'loading' && <Ramp stops={theme.voltage} ends={ends(bands.voltage, 2)} unit="p.u." />}
          {lens !== 'voltage' && (
            <Ramp
              stops={stops.map((c, i) => `${c} ${(100 * i) / (stops.length - 1)}%`)}
              ends={bands.loading.map((v) => fixed(v, 0))}
              unit="%"
            />
          )}
        </>
      )
  }
}

const Panel = styled.div`
  padding: 12px 14px; width: 300px; display: grid; gap: 10px;
  h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; }
  label { display: flex; gap: 8px; align-items: center; }
  .band { display: flex; gap: 6px; align-items: center; }
  .band input { width: 58px; height: 26px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.paper}; text-align: right; padding: 0 5px; font: 400 12px ${font.mono}; }
  .name { width: 84px; }
`

const NAMED: readonly (readonly [keyof Bands, string])[] = [
  ['voltage', 'voltage, p.u.'],
  ['loading', 'loading, %'],
  ['drop', 'drop, %'],
  ['factor', 'cos φ'],
  ['difference', 'difference'],
]

/** Bands of the scales, the surface, and running flows. */
function Options() {
  const { bands, heat, animate } = usePrefs()
  const changed = JSON.stringify(bands) !== JSON.stringify(BANDS)
  return (
    <DialogTrigger>
      <Plain style={{ padding: '0 6px' }}>scale …</Plain>
      <Popover placement="top start">
        <Panel role="group" aria-label="Scales, surface and motion">
          <label>
            <input
              type="checkbox"
              checked={heat}
              onChange={(e) => setPrefs({ heat: e.currentTarget.checked })}
            />
            Surface of voltage, or of loading with that lens
          </label>
          <label>
            <input
              type="checkbox"
              checked={animate}
              onChange={(e) => setPrefs({ animate: e.currentTarget.checked })}
            />
            Show flows running
          </label>
          <h3>Where the scales begin and end</h3>
          {NAMED.map(([name, label]) => (
            <BandRow key={name} name={name} label={label} />
          ))}
          {changed && <Plain onPress={() => setPrefs({ bands: BANDS })}>Back to the usual scales</Plain>}
        </Panel>
      </Popover>
    </DialogTrigger>
  )
}

function BandRow({ name, label }: { name: keyof Bands; label: string }) {
  const bands = usePrefs((s) => s.bands)
  const band = bands[name]
  const set = (i: number, text: string) => {
    const value = parseNumber(text)
    const next = band.map((v, k) => (k === i ? value : v))
    // A scale rises; what does not is put back.
    const rises = next.every((v, k) => Number.isFinite(v) && (k === 0 || v > next[k - 1]!))
    if (rises) setPrefs({ bands: { ...bands, [name]: next } })
  }
  return (
    <div className="band">
      <span className="name">{label}</span>
      {band.map((v, i) => (
        <input
          // biome-ignore lint/suspicious/noArrayIndexKey: the place in the scale is what it is
          key={`${i} ${v}`}
          aria-label={`${label}, ${i === 0 ? 'lowest' : i === band.length - 1 ? 'highest' : 'between'}`}
          defaultValue={String(v)}
          onBlur={(e) => set(i, e.currentTarget.value)}
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
        />
      ))}
    </div>
  )
}

const Keys = styled.div`
  display: flex; gap: 4px 12px; max-width: 480px; overflow-x: auto; scrollbar-width: none;
  button { border: none; background: none; padding: 0; display: flex; align-items: center; gap: 5px; white-space: nowrap; cursor: pointer; }
  .strand { display: flex; gap: 4px; align-items: center; color: ${(p) => p.theme.quiet}; font-size: 12px; }
  i { width: 12px; height: 4px; display: block; }
`

/** Every feeder with its colour; choosing one selects its buses. */
function FeederKey() {
  const theme = useTheme()
  const { project, wiring } = useBench()
  const { data } = useQuery({
    ...feedersQuery(project?.id ?? '', wiring),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  const found = data?.feeders ?? []
  if (!found.length) return <span className="label">no feeders</span>
  return (
    <Keys tabIndex={0} role="group" aria-label="Feeders">
      {found.map((f, n) => (
        <button type="button" key={f.id} onClick={() => selectMany(f.buses, { reveal: true })}>
          <i style={{ background: theme.feeders[n % theme.feeders.length] }} />
          {f.name}
        </button>
      ))}
    </Keys>
  )
}

/** Every area with its colour; choosing one selects its buses. */
function AreaKey() {
  const theme = useTheme()
  const items = useBench((s) => s.items)
  const areas = [...items.values()].filter((i) => i.kind === 'area')
  const of = (id: string) =>
    [...items.values()].filter((i) => i.area === id && i.kind === 'bus').map((i) => i.id)
  return (
    <Keys tabIndex={0} role="group" aria-label="Areas">
      {areas.map((a, n) => (
        <button type="button" key={a.id} onClick={() => selectMany(of(a.id), { reveal: true })}>
          <i style={{ background: theme.feeders[n % theme.feeders.length] }} />
          {a.name}
        </button>
      ))}
    </Keys>
  )
}
