/** What stands on the sheet and in which units: label sets, own ones too; one switch for every view. */
import { useState } from 'react'
import styled from 'styled-components'
import { Button, Dialog, Pick, TextInput } from '../../design/controls'
import { activeLabels, type LabelSet, labelSets, setPrefs, type Units, usePrefs } from '../../model/prefs'
import { useBench } from '../../session/store'

const Grid = styled.div`display: grid; grid-template-columns: 1fr 1fr; gap: 16px 26px;`
const Part = styled.fieldset`
  border: none; padding: 0; margin: 0; min-width: 0; legend { font-weight: 500; margin-bottom: 4px; padding: 0; }
  label { display: flex; gap: 8px; align-items: center; min-height: 26px; }
  .row { display: flex; justify-content: space-between; align-items: center; min-height: 30px; border-bottom: 1px solid ${(p) => p.theme.rule}; }
`
const Foot = styled.div`display: flex; gap: 8px; margin-top: 14px; align-items: center; p { color: ${(p) => p.theme.quiet}; }`

/** What labels can say of buses and of what hangs from them: the quantities that the result declares. */
function useQuantities(table: string): readonly (readonly [string, string])[] {
  const quantities = useBench((s) => s.raw?.quantities)
  return (quantities ?? []).filter((q) => q.table === table).map((q) => [q.name, q.label] as const)
}

export function LabelsDialog() {
  return useBench((s) => s.dialog === 'labels') ? <Labels /> : null
}

function Labels() {
  const prefs = usePrefs()
  const [buses, branches, injections] = [
    useQuantities('buses'),
    useQuantities('branches'),
    useQuantities('injections'),
  ]
  const close = () => useBench.setState({ dialog: null })
  const set = activeLabels(prefs)
  const own = prefs.ownLabels.some((o) => o.id === set.id)
  const [name, setName] = useState('')
  /** A change to a built-in set makes an own one of it. */
  const change = (values: Partial<LabelSet>) => {
    const next = own
      ? { ...set, ...values }
      : { ...set, ...values, id: `own-${Date.now()}`, name: `${set.name}, own` }
    const rest = prefs.ownLabels.filter((o) => o.id !== next.id)
    setPrefs({ ownLabels: [...rest, next], labelSet: next.id })
  }
  const drop = () =>
    setPrefs({ ownLabels: prefs.ownLabels.filter((o) => o.id !== set.id), labelSet: 'essentials' })
  return (
    <Dialog label="Labels and units" isOpen onClose={close} width={620}>
      <h2>Labels and units</h2>
      <Part>
        <div className="row">
          <span>Label set</span>
          <Pick
            label="Label set"
            hideLabel
            value={set.id}
            choices={labelSets(prefs.ownLabels).map((s) => ({ id: s.id, label: s.name }))}
            onChange={(id) => setPrefs({ labelSet: id })}
          />
        </div>
      </Part>
      <Grid style={{ marginTop: 12 }}>
        <Chosen
          legend="At buses"
          all={buses}
          chosen={set.buses}
          onChange={(names) => change({ buses: names })}
        />
        <Chosen
          legend="On branches"
          all={branches}
          chosen={set.branches}
          onChange={(branches) => change({ branches })}
        />
        <Chosen
          legend="At loads, machines, shunts"
          all={injections}
          chosen={set.injections}
          onChange={(injections) => change({ injections })}
        />
        <Part>
          <legend>How</legend>
          <label>
            <input
              type="checkbox"
              checked={set.names}
              onChange={(e) => change({ names: e.currentTarget.checked })}
            />
            Names
          </label>
          <label>
            <input
              type="checkbox"
              checked={set.bothEnds}
              onChange={(e) => change({ bothEnds: e.currentTarget.checked })}
            />
            Power and current at both ends of a branch
          </label>
          <UnitRows />
        </Part>
      </Grid>
      <Foot>
        {own ? (
          <>
            <TextInput
              aria-label="Name of this set"
              placeholder={set.name}
              value={name}
              onChange={(e) => setName(e.currentTarget.value)}
              style={{ width: 200 }}
            />
            <Button
              isDisabled={!name.trim()}
              onPress={() => {
                change({ name: name.trim().slice(0, 40) })
                setName('')
              }}
            >
              Rename
            </Button>
            <Button onPress={drop}>Remove this set</Button>
          </>
        ) : (
          <p>A change makes a set of your own; the built-in ones stay.</p>
        )}
      </Foot>
    </Dialog>
  )
}

function Chosen(props: {
  legend: string
  all: readonly (readonly [string, string])[]
  chosen: readonly string[]
  onChange: (chosen: string[]) => void
}) {
  const { legend, all, chosen, onChange } = props
  return (
    <Part>
      <legend>{legend}</legend>
      {all.map(([id, label]) => (
        <label key={id}>
          <input
            type="checkbox"
            checked={chosen.includes(id)}
            onChange={(e) =>
              onChange(e.currentTarget.checked ? [...chosen, id] : chosen.filter((c) => c !== id))
            }
          />
          {label}
        </label>
      ))}
    </Part>
  )
}

const choices = (...ids: string[]) => ids.map((id) => ({ id, label: id }))

const UNITS = [
  ['Power', 'power', 'MW', 'kW'],
  ['Current', 'current', 'A', 'kA'],
  ['Voltage', 'voltage', 'p.u.', '%', 'kV'],
] as const

function UnitRows() {
  const units = usePrefs((s) => s.units)
  const set = (values: Partial<Units>) => setPrefs({ units: { ...units, ...values } })
  return (
    <>
      {UNITS.map(([name, of, ...ids]) => (
        <div className="row" key={of}>
          <span>{name}</span>
          <Pick
            label={`${name} in`}
            hideLabel
            value={units[of]}
            choices={choices(...ids)}
            onChange={(v) => set({ [of]: v })}
          />
        </div>
      ))}
      <div className="row">
        <span>Digits</span>
        <Pick
          label="Digits"
          hideLabel
          value={String(units.digits)}
          choices={[
            { id: '-1', label: 'one fewer' },
            { id: '0', label: 'as usual' },
            { id: '1', label: 'one more' },
            { id: '2', label: 'two more' },
          ]}
          onChange={(v) => set({ digits: Number(v) })}
        />
      </div>
      <label>
        <input
          type="checkbox"
          checked={units.marks}
          onChange={(e) => set({ marks: e.currentTarget.checked })}
        />
        Unit marks on the sheet
      </label>
    </>
  )
}
