/** A factor typed in per cent: kept when it is left or Enter is pressed, blank is 100 %. */
import { useState } from 'react'
import { exact, parseNumber } from './format'

/** The largest factor that can be typed: beyond it a typing error is likelier than a need. */
const MOST = 1000

export function PercentInput(props: {
  /** What the factor is of, for who can't see where it stands. */
  label?: string
  factor: number
  onKeep: (factor: number, percent: string) => void
  onRefuse: (typed: string, allowed: string) => void
}) {
  const { label, factor, onKeep, onRefuse } = props
  const [draft, setDraft] = useState<string | null>(null)
  const keep = () => {
    const typed = draft?.trim()
    setDraft(null)
    if (typed === undefined || typed === exact(factor, 100)) return
    const value = typed === '' ? 100 : parseNumber(typed)
    if (value >= 0 && value <= MOST) onKeep(value / 100, exact(value))
    else onRefuse(typed, `Enter a number from 0 to ${MOST} %.`)
  }
  return (
    <input
      aria-label={label}
      inputMode="decimal"
      data-set={factor !== 1}
      value={draft ?? exact(factor, 100)}
      onFocus={(e) => e.currentTarget.select()}
      onChange={(e) => setDraft(e.currentTarget.value)}
      onBlur={keep}
      onKeyDown={(e) => {
        e.stopPropagation()
        if (e.key === 'Enter') e.currentTarget.blur()
        if (e.key === 'Escape') setDraft(null)
      }}
    />
  )
}
