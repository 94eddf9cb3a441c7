/** Which columns a table shows, in which order; sets of them under a name. */
import { useState } from 'react'
import { DialogTrigger } from 'react-aria-components'
import styled from 'styled-components'
import { Button, IconButton, Plain, Popover, TextInput } from '../../design/controls'
import { setPrefs, usePrefs } from '../../model/prefs'
import type { ResultTable } from '../../model/results'
import { chosenColumns, moved } from './rows'

const Panel = styled.div`
  padding: 10px 12px; width: 320px; max-height: 420px; overflow: auto; display: grid; gap: 6px;
  h3 { font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; }
  .column { display: flex; align-items: center; gap: 4px; min-height: 26px; } .column label { flex: 1; display: flex; gap: 8px; align-items: center; }
  .unit { color: ${(p) => p.theme.quiet}; } .sets { display: flex; flex-wrap: wrap; gap: 4px; }
`

export function Columns({ table }: { table: ResultTable }) {
  const { columns, columnSets } = usePrefs()
  const shown = chosenColumns(table, columns[table.name])
  const names = shown.map((c) => c.name)
  const hidden = table.columns.filter((c) => !names.includes(c.name) && c.name !== 'id')
  const sets = columnSets[table.name] ?? []
  const [name, setName] = useState('')
  const set = (next: readonly string[] | undefined) => {
    const { [table.name]: _, ...rest } = columns
    setPrefs({ columns: next ? { ...rest, [table.name]: next } : rest })
  }
  const saveAs = () => {
    const kept = sets.filter((s) => s.name !== name.trim())
    setPrefs({
      columnSets: { ...columnSets, [table.name]: [...kept, { name: name.trim(), columns: names }] },
    })
    setName('')
  }
  const before = (i: number) => (i > 1 ? names[i - 1]! : names[0]!)
  return (
    <DialogTrigger>
      <Plain>Columns …</Plain>
      <Popover placement="top end">
        <Panel role="group" aria-label="Columns">
          {sets.length > 0 && <h3>Sets of one's own</h3>}
          <div className="sets">
            {sets.map((s) => (
              <Button key={s.name} onPress={() => set(s.columns)}>
                {s.name}
              </Button>
            ))}
          </div>
          <h3>Shown, in order (headings can be dragged as well)</h3>
          {shown.map((c, i) => (
            <div className="column" key={c.name}>
              <label>
                <input
                  type="checkbox"
                  checked
                  disabled={names.length === 1}
                  onChange={() => set(names.filter((n) => n !== c.name))}
                />
                {c.label} <span className="unit">{c.unit}</span>
              </label>
              <IconButton
                icon="up"
                label={`${c.label} further left`}
                isDisabled={i === 0}
                onPress={() => set(moved(names, c.name, before(i)))}
              />
              <IconButton
                icon="down"
                label={`${c.label} further right`}
                isDisabled={i === shown.length - 1}
                onPress={() => set(moved(names, c.name, names[i + 2] ?? null))}
              />
            </div>
          ))}
          {hidden.length > 0 && <h3>Hidden</h3>}
          {hidden.map((c) => (
            <div className="column" key={c.name}>
              <label>
                <input type="checkbox" checked={false} onChange={() => set([...names, c.name])} />
                {c.label} <span className="unit">{c.unit}</span>
              </label>
            </div>
          ))}
          <div className="column">
            <TextInput
              aria-label="Name of this set of columns"
              placeholder="Name of this set"
              value={name}
              onChange={(e) => setName(e.currentTarget.value)}
            />
            <Button isDisabled={!name.trim()} onPress={saveAs}>
              Save
            </Button>
          </div>
          <Plain onPress={() => set(undefined)}>Back to the usual columns</Plain>
        </Panel>
      </Popover>
    </DialogTrigger>
  )
}
