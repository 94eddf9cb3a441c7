/** The sift line: one line that picks rows, with completion and errors that say where. */
import { useRef, useState } from 'react'
import { flushSync } from 'react-dom'
import styled from 'styled-components'
import { Kbd } from '../../design/controls'
import { font } from '../../design/tokens'
import { complete, type Sifting, useHints, wordAt } from './sift'

const Line = styled.div`
  display: flex; align-items: center; gap: 8px; position: relative; flex: 1; min-width: 260px;
  input {
    flex: 1; min-width: 0; height: 26px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 5px; padding: 0 8px; background: ${(p) => p.theme.panel};
    font: 400 12.5px ${font.mono};
  }
  input[aria-invalid='true'] { border-color: ${(p) => p.theme.breach}; }
  .count { color: ${(p) => p.theme.quiet}; white-space: nowrap; font-size: 12px; min-width: 76px; }
`
const List = styled.ul`
  position: absolute; left: 0; bottom: 100%; margin: 0 0 3px; padding: 4px; list-style: none; background: ${(p) => p.theme.panel}; z-index: 8;
  border: 1px solid ${(p) => p.theme.rule}; border-radius: 6px; box-shadow: 0 6px 20px rgb(0 0 0 / 0.16); max-width: 560px;
  li { display: flex; gap: 12px; padding: 3px 8px; border-radius: 4px; white-space: nowrap; overflow: hidden; }
  li[aria-selected='true'] { background: ${(p) => p.theme.accentWash}; }
  b { font: 500 12px ${font.mono}; } span { color: ${(p) => p.theme.quiet}; font-size: 12px; overflow: hidden; text-overflow: ellipsis; }
`
const Option = styled.li``
const Problem = styled.p`
  position: absolute; left: 0; bottom: 100%; margin-bottom: 3px; padding: 3px 9px; background: ${(p) => p.theme.breachWash}; color: ${(p) => p.theme.breach};
  border: 1px solid ${(p) => p.theme.breach}; border-radius: 5px; font-size: 12px; z-index: 7; max-width: 640px;
`

export function SiftLine(props: {
  table: string
  address?: string
  text: string
  onChange: (text: string) => void
  sifting: Sifting
  count: number
  total: number
}) {
  const { table, text, onChange, sifting } = props
  const field = useRef<HTMLInputElement>(null)
  const hints = useHints(table, props.address)
  const [cursor, setCursor] = useState(-1)
  const [at, setAt] = useState(0)
  const shown = cursor >= 0 ? complete(hints, text, cursor) : []
  const take = (word: string) => {
    const { start } = wordAt(text, cursor)
    const next = `${text.slice(0, start)}${word}${/[(.]$/.test(word) ? '' : ' '}${text.slice(cursor).trimStart()}`
    flushSync(() => {
      onChange(next)
      setCursor(-1)
    })
    const place = start + word.length + (/[(.]$/.test(word) ? 0 : 1)
    // At once, not with the next frame: whoever types on meanwhile would have the cursor put back behind their letters.
    field.current?.setSelectionRange(place, place)
  }
  const keyDown = (e: React.KeyboardEvent) => {
    e.stopPropagation()
    if (e.key === 'Escape') {
      if (shown.length) setCursor(-1)
      else if (text) onChange('')
      else field.current?.blur()
    } else if (shown.length && (e.key === 'ArrowDown' || e.key === 'ArrowUp')) {
      setAt((at + (e.key === 'ArrowDown' ? 1 : shown.length - 1)) % shown.length)
    } else if (shown.length && (e.key === 'Tab' || (e.key === 'Enter' && at > 0))) take(shown[at]!.word)
    else return
    e.preventDefault()
  }
  const moved = (e: React.SyntheticEvent<HTMLInputElement>) => {
    setCursor(e.currentTarget.selectionStart ?? -1)
    setAt(0)
  }
  return (
    <Line>
      <input
        ref={field}
        data-sift="yes"
        role="combobox"
        aria-label="Sift: which rows to show"
        aria-expanded={shown.length > 0}
        aria-controls="sift-hints"
        aria-activedescendant={shown.length ? `sift-hint-${at}` : undefined}
        aria-invalid={sifting.problem !== null}
        aria-describedby={sifting.problem ? 'sift-problem' : undefined}
        spellCheck={false}
        autoComplete="off"
        placeholder="sift: voltage_pu < 0.95 and area = Quillport"
        value={text}
        onChange={(e) => {
          onChange(e.currentTarget.value)
          moved(e)
        }}
        onBlur={() => setCursor(-1)}
        onKeyDown={keyDown}
      />
      {shown.length > 0 && (
        <List id="sift-hints" role="listbox" aria-label="What could stand here">
          {shown.map((h, i) => (
            <Option
              key={h.word}
              id={`sift-hint-${i}`}
              role="option"
              aria-selected={i === at}
              tabIndex={-1}
              onPointerDown={(e) => {
                e.preventDefault()
                take(h.word)
              }}
            >
              <b>{h.word}</b>
              <span>{h.about}</span>
              {i === at && <Kbd>Tab</Kbd>}
            </Option>
          ))}
        </List>
      )}
      {sifting.problem && !shown.length && (
        <Problem id="sift-problem" role="alert">
          {sifting.problem.text}
        </Problem>
      )}
      <span className="count" title={sifting.took === null ? undefined : `${sifting.took} ms in the service`}>
        {sifting.rows || props.count !== props.total
          ? `${props.count} of ${props.total}`
          : `${props.total} ${props.total === 1 ? 'row' : 'rows'}`}
      </span>
    </Line>
  )
}
