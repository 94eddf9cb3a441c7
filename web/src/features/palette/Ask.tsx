/** A few figures before something happens: how many sections, how far, how often. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import { vocabularyQuery } from '../../api/queries'
import { Button, Dialog, Primary, TextInput } from '../../design/controls'
import { parseNumber } from '../../design/format'
import { pasteHere } from '../../session/copies'
import { type GrowOptions, grow } from '../../session/edits'
import { useBench } from '../../session/store'

const Form = styled.form`
  display: grid; grid-template-columns: 1fr 120px 34px; gap: 8px 10px; align-items: center;
  h2, p, .end { grid-column: 1 / -1; } .end { display: flex; justify-content: flex-end; gap: 8px; margin-top: 6px; }
  p { color: ${(p) => p.theme.quiet}; } .bad { color: ${(p) => p.theme.breach}; } input { text-align: right; }
`

type Name = 'count' | 'spacing_km' | 'distance_km' | 'kv'
const WORDS: Record<Name, { label: string; unit: string; start: string; least: number; most: number }> = {
  count: { label: 'How many', unit: '', start: '3', least: 1, most: 200 },
  spacing_km: { label: 'Length of each', unit: 'km', start: '0.4', least: 0.001, most: 2000 },
  distance_km: { label: 'Distance from its start', unit: 'km', start: '', least: 0.001, most: 2000 },
  kv: { label: 'Voltage of the new bus', unit: 'kV', start: '', least: 0.1, most: 1500 },
}

export function Ask() {
  const asking = useBench((s) => s.asking)
  const close = () => useBench.setState({ asking: null })
  return (
    <Dialog label="Grow" isOpen={asking !== null} onClose={close} width={380}>
      {asking && <Fields key={`${asking.what} ${asking.at}`} {...asking} close={close} />}
    </Dialog>
  )
}

function Fields({ what, at, close }: { what: string; at: string; close: () => void }) {
  const shoot = useQuery(vocabularyQuery).data?.shoots.find((s) => s.name === what)
  const name = useBench((s) => s.items.get(at)?.name)
  const asks = (what === 'paste' ? ['count'] : (shoot?.asks ?? [])) as Name[]
  const [typed, setTyped] = useState<Partial<Record<Name, string>>>({})
  const [bad, setBad] = useState<string | null>(null)
  const go = async () => {
    const options: Partial<Record<Name, number>> = {}
    for (const a of asks) {
      const text = (typed[a] ?? WORDS[a].start).trim()
      if (!text) continue
      const value = parseNumber(text)
      const { label, unit, least, most } = WORDS[a]
      if (!(value >= least && value <= most))
        return setBad(`${label}: “${text}” is not allowed. Enter a number from ${least} to ${most} ${unit}.`)
      options[a] = value
    }
    close()
    if (what === 'paste') await pasteHere(options.count ?? 1)
    else await grow(at, what, undefined, options as GrowOptions)
  }
  return (
    <Form
      onSubmit={(e) => {
        e.preventDefault()
        void go()
      }}
    >
      <h2>{what === 'paste' ? `Paste several times${name ? ` onto ${name}` : ''}` : shoot?.label}</h2>
      {shoot && <p>{shoot.meaning}</p>}
      {asks.map((a, n) => (
        <Row
          key={a}
          name={a}
          first={n === 0}
          value={typed[a] ?? WORDS[a].start}
          set={(v) => setTyped({ ...typed, [a]: v })}
        />
      ))}
      {bad && (
        <p className="bad" role="alert">
          {bad}
        </p>
      )}
      <div className="end">
        <Button onPress={close}>Cancel</Button>
        <Primary type="submit">{what === 'paste' ? 'Paste' : 'Grow'}</Primary>
      </div>
    </Form>
  )
}

function Row(props: { name: Name; first: boolean; value: string; set: (value: string) => void }) {
  const { label, unit } = WORDS[props.name]
  return (
    <>
      <label htmlFor={`ask-${props.name}`}>{label}</label>
      <TextInput
        id={`ask-${props.name}`}
        value={props.value}
        placeholder={props.name === 'distance_km' ? 'the middle' : 'typical'}
        inputMode="decimal"
        autoFocus={props.first}
        onFocus={(e) => e.currentTarget.select()}
        onChange={(e) => props.set(e.currentTarget.value)}
      />
      <span>{unit}</span>
    </>
  )
}
