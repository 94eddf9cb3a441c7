/** What taps, steps, curves and machines did in the present solution, and why. */
import { useState } from 'react'
import styled from 'styled-components'
import { Plain } from '../design/controls'
import { useBench } from '../session/store'

const Actions = styled.ul`
  margin: 0; padding: 8px 16px 8px 32px; overflow: auto; min-height: 0; li { padding: 3px 0; } .none { color: ${(p) => p.theme.quiet}; }
`

/** What control did; ``most``: how many of it before somebody asks for the rest. */
export function ControlList({ most = Number.POSITIVE_INFINITY }: { most?: number }) {
  const notes = useBench((s) => s.result?.account.notes) ?? []
  const [all, setAll] = useState(false)
  const shown = all ? notes : notes.slice(0, most)
  return (
    <Actions aria-label="What control did" tabIndex={0}>
      {shown.map((n) => (
        <li key={n}>{n}</li>
      ))}
      {notes.length > most && (
        <li>
          <Plain onPress={() => setAll(!all)}>{all ? 'Fewer' : `${notes.length - most} more`}</Plain>
        </li>
      )}
      {notes.length === 0 && <li className="none">Nothing had to move: taps and steps are as entered.</li>}
    </Actions>
  )
}
