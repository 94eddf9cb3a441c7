/** What the colours of the sheet mean, and which of them to show. */
import { useQuery } from '@tanstack/react-query'
import { DialogTrigger } from 'react-aria-components'
import styled, { useTheme } from 'styled-components'
import { feedersQuery } from '../api/queries'
import { Pick, Plain, Popover } from '../design/controls'
import { fixed, parseNumber, power, significant } from '../design/format'
import { font } from '../design/tokens'
import { PHASE_DASH, phaseName } from '../model/phases'
import { DIFFERENCE, DIFFERENCE_BAND, setPrefs, usePrefs } from '../model/prefs'
import { type Declared, idOf, lensesOf, wordOf } from '../model/quantities'
import { values } from '../model/results'
import { selectMany, useBench, useParts } from '../session/store'
import { bandOf, differenceBand, lensChoices, stopsOf } from './lens'
import { lensQuantities, lensStrands } from './paint'

const Box = styled.div`
  position: absolute; left: 12px; bottom: 12px; display: flex; align-items: center; gap: 18px; padding: 3px 12px; border-radius: 6px;
  background: ${(p) => p.theme.paper}; border: 1px solid ${(p) => p.theme.rule}; height: 38px;
  .label { color: ${(p) => p.theme.quiet}; } .stale { color: ${(p) => p.theme.breach}; }
`
const Part = styled.div`width: 132px;`
const Scale = styled.div<{ $stops: readonly string[] }>`
  height: 6px; background: linear-gradient(90deg, ${(p) => p.$stops.join(', ')});
`
const Ends = styled.div`
  display: flex; justify-content: space-between; font: 400 11px/1.2 ${font.mono}; color: ${(p) => p.theme.quiet}; margin-top: 2px;
`
const Row = styled.div`display: flex; align-items: center; gap: 2px;`

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

/** Figures of a scale, few enough digits to be read. */
const ends = (band: readonly number[], digits: number) => band.map((v) => fixed(v, digits))

export function Legend() {
  const lens = useBench((s) => s.lens)
  const pinned = useBench((s) => s.pinned)
  const study = useBench((s) => s.study)
  const raw = useBench((s) => s.raw)
  const choices = [...lensChoices(raw, !!pinned), ...(study ? [{ id: 'study', label: study.label }] : [])]
  return (
    <Box>
      <Row>
        <span className="label">Lens</span>
        <Pick
          label="Lens"
          hideLabel
          value={lens}
          choices={choices}
          onChange={(id) => useBench.setState({ lens: id })}
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
  const phaseNames = usePrefs((p) => p.phaseNames)
  const parts = lensStrands(lens, result)
  if (!parts.length) return null
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

/** The scale of the lens that is on. */
function Scales() {
  const theme = useTheme()
  const lens = useBench((s) => s.lens)
  const result = useBench((s) => s.result)
  const study = useBench((s) => s.study)
  const revision = useBench((s) => s.revision)
  const { bands } = usePrefs()
  const most = (v: number) => significant(v, 2)
  const painted = lensQuantities(lens, result)
  if (painted.length) return painted.map((q) => <QuantityRamp key={idOf(q)} quantity={q} />)
  switch (lens) {
    case 'feeder':
      return <FeederKey />
    case 'area':
      return <AreaKey />
    case 'difference':
      return <Ramp stops={theme.voltage} ends={ends(differenceBand(bands), 2)} unit="p.u." />
    case 'flow':
      return <span className="label">width by active power</span>
    case 'supply':
      return <span className="label">drawn hollow: without supply</span>
    case 'study':
      return (
        <>
          <Ramp
            stops={study?.grows ? theme.loading : theme.voltage}
            ends={study ? [...(study.grows ? [] : [most(-study.most)]), '0', most(study.most)] : []}
            unit={study?.unit}
          />
          {study && study.revision !== revision && <span className="stale">out of date</span>}
        </>
      )
    default:
      return null
  }
}

/** Digits that tell the ends of a scale apart. */
const digitsOf = (band: readonly number[]) => {
  const span = Math.max(...band) - Math.min(...band)
  return span > 20 ? 0 : span > 1 ? 1 : 2
}

/** The scale of a quantity: from where it begins to where it ends, or to the largest there is. */
function QuantityRamp({ quantity }: { quantity: Declared }) {
  const theme = useTheme()
  const result = useBench((s) => s.result)
  const { bands } = usePrefs()
  const stops = stopsOf(theme, quantity.scale)
  const band = bandOf(quantity, bands)
  const unit = quantity.unit ?? quantity.short
  if (!band.length) {
    const all = values(result?.tables[quantity.table], quantity.name) as (number | null)[]
    const top = all.reduce<number>((m, v) => Math.max(m, Math.abs(v ?? 0)), 0)
    const last = quantity.unit === 'MW' ? power(top) : `${significant(top, 2)} ${quantity.unit ?? ''}`
    const first = quantity.scale === 'around_zero' ? [significant(-top, 2)] : []
    return <Ramp stops={stops} ends={[...first, '0', last]} />
  }
  const falls = quantity.scale === 'falling'
  const shownBand = falls ? [...band].reverse() : band
  // Colours stand evenly along the ramp, whatever lies between the figures.
  const even = stops.map((c, i) => `${c} ${(100 * i) / (stops.length - 1)}%`)
  return <Ramp stops={even} ends={ends(shownBand, digitsOf(band))} unit={unit} />
}

const Panel = styled.div`
  padding: 12px 14px; width: 300px; display: grid; gap: 10px;
  h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; }
  label { display: flex; gap: 8px; align-items: center; }
  .band { display: flex; gap: 6px; align-items: center; }
  .band input { width: 58px; height: 26px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.paper}; text-align: right; padding: 0 5px; font: 400 12px ${font.mono}; }
  .name { width: 84px; }
`

/** Scales that can be set: of the lenses that have a beginning and an end, and of the difference. */
function useScales(): readonly {
  readonly id: string
  readonly label: string
  readonly usual: readonly number[]
}[] {
  const raw = useBench((s) => s.raw)
  const own = lensesOf(raw).filter((q) => q.band?.length)
  return [
    ...own.map((q) => ({
      id: idOf(q),
      label: `${wordOf(q)}${q.unit ? `, ${q.unit}` : ''}`,
      usual: q.band ?? [],
    })),
    { id: DIFFERENCE, label: 'difference', usual: DIFFERENCE_BAND },
  ]
}

/** Bands of the scales, the surface, and running flows. */
function Options() {
  const { bands, heat, animate } = usePrefs()
  const scales = useScales()
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
          {scales.map((s) => (
            <BandRow key={s.id} name={s.id} label={s.label} usual={s.usual} />
          ))}
          {Object.keys(bands).length > 0 && (
            <Plain onPress={() => setPrefs({ bands: {} })}>Back to the usual scales</Plain>
          )}
        </Panel>
      </Popover>
    </DialogTrigger>
  )
}

function BandRow({ name, label, usual }: { name: string; label: string; usual: readonly number[] }) {
  const bands = usePrefs((s) => s.bands)
  const band = bands[name] ?? usual
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
  const { project, wiring } = useParts('project', 'wiring')
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
