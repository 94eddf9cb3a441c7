/** One field in place: a value that is typed over; what the service refuses stays, with the reason under it. */
import { useQuery } from '@tanstack/react-query'
import { useId, useRef, useState } from 'react'
import styled from 'styled-components'
import { type FieldSpec, messageOf, ServiceError } from '../../api/client'
import { vocabularyQuery } from '../../api/queries'
import { Pick } from '../../design/controls'
import { exact, parseNumber } from '../../design/format'
import { font } from '../../design/tokens'
import type { Item } from '../model'
import { update } from '../session'
import { useBench } from '../store'

const Row = styled.div`
  display: grid; grid-template-columns: 112px minmax(0, 1fr) 44px; align-items: center; column-gap: 8px; min-height: 29px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  > label, > .label { color: ${(p) => p.theme.quiet}; }
  &[data-missing='true'] > label { color: ${(p) => p.theme.breach}; }
`
const Value = styled.input<{ $figure: boolean }>`
  width: 100%; border: 1px solid transparent; border-radius: 4px; background: transparent; padding: 3px 6px; min-width: 0;
  text-align: ${(p) => (p.$figure ? 'right' : 'left')}; font: ${(p) => (p.$figure ? `400 12.5px ${font.mono}` : 'inherit')};
  &:hover { border-color: ${(p) => p.theme.rule}; }
  &:focus { background: ${(p) => p.theme.panel}; outline: 2px solid ${(p) => p.theme.accent}; outline-offset: 0; }
  &[aria-invalid='true'] { outline: 2px solid ${(p) => p.theme.breach}; outline-offset: 0; }
`
const Unit = styled.span<{ $typical: boolean }>`
  font-size: 12px; color: ${(p) => (p.$typical ? p.theme.watchInk : p.theme.quiet)}; white-space: nowrap;
`
const Reason = styled.p`
  grid-column: 1 / -1; color: ${(p) => p.theme.breach}; font-size: 12px; padding: 2px 0 5px; white-space: normal;
`

interface Props {
  readonly item: Item
  readonly spec: FieldSpec
}

export function Field({ item, spec }: Props) {
  const [reason, setReason] = useState<string | null>(null)
  const id = useId()
  const value = item[spec.name]
  const keep = async (next: unknown) => {
    setReason(null)
    if (next === value) return true
    try {
      await update(item, { [spec.name]: next }, `Set ${spec.label.toLowerCase()} of ${item.name}`)
      return true
    } catch (error) {
      setReason(reasonFor(error))
      return false
    }
  }
  const origin = item.origins?.[spec.name]
  const unit = spec.shown_unit && spec.shown_unit !== '1' ? spec.shown_unit : ''
  const sign = origin === 'typical' ? '≈ ' : origin === 'catalogue' ? '§ ' : ''
  const missing = Boolean(spec.required) && (value === undefined || value === null)
  return (
    <Row data-field={spec.name} data-missing={missing} title={spec.meaning}>
      <FieldLabel spec={spec} id={id} missing={missing} />
      <Editor {...{ item, spec, keep, id }} refuse={setReason} invalid={reason !== null} />
      <Unit $typical={origin === 'typical'} title={origin ? `${origin} value` : undefined}>
        {sign}
        {unit}
      </Unit>
      {reason && <Reason role="alert">{reason}</Reason>}
    </Row>
  )
}

function FieldLabel({ spec, id, missing }: { spec: FieldSpec; id: string; missing: boolean }) {
  const words = `${spec.label}${missing ? ' (missing)' : ''}`
  const typed = spec.type === 'number' || spec.type === 'integer' || spec.type === 'text'
  return typed && spec.name !== 'type' ? (
    <label htmlFor={id}>{words}</label>
  ) : (
    <span className="label">{words}</span>
  )
}

function reasonFor(error: unknown): string {
  if (!(error instanceof ServiceError)) return messageOf(error)
  const first = error.problem.errors?.[0]
  return first ? `${first.value ?? 'Nothing'} is not allowed: ${first.allowed}.` : error.problem.detail
}

interface EditorProps extends Props {
  readonly id: string
  readonly invalid: boolean
  readonly keep: (value: unknown) => Promise<boolean>
  readonly refuse: (reason: string) => void
}

function Editor(props: EditorProps) {
  const { item, spec, keep } = props
  const value = item[spec.name]
  if (spec.name === 'type' && item.kind === 'line') return <LineTypePick {...props} />
  if (spec.type === 'yes_no') {
    const choices = [
      { id: 'yes', label: 'yes' },
      { id: 'no', label: 'no' },
    ]
    return (
      <Pick
        label={spec.label}
        hideLabel
        value={value ? 'yes' : 'no'}
        choices={choices}
        onChange={(c) => void keep(c === 'yes')}
      />
    )
  }
  if (spec.type === 'choice') {
    const choices = (spec.choices ?? []).map((c) => ({ id: c, label: c.replaceAll('_', ' ') }))
    return (
      <Pick
        label={spec.label}
        hideLabel
        value={String(value ?? '')}
        choices={choices}
        onChange={(c) => void keep(c)}
      />
    )
  }
  if (spec.type === 'reference') return <ReferencePick {...props} />
  return <Typed {...props} />
}

const NONE = '—'

function ReferencePick({ item, spec, keep }: EditorProps) {
  const items = useBench((s) => s.items)
  const found = [...items.values()].filter((i) => i.kind === spec.ref)
  const choices = [{ id: NONE, label: 'none' }, ...found.map((i) => ({ id: i.id, label: i.name }))]
  const value = item[spec.name]
  return (
    <Pick
      label={spec.label}
      hideLabel
      value={typeof value === 'string' ? value : NONE}
      choices={choices}
      onChange={(c) => void keep(c === NONE ? null : c)}
    />
  )
}

function LineTypePick({ item, spec, keep }: EditorProps) {
  const types = useQuery(vocabularyQuery).data?.line_types ?? []
  const from = useBench((s) => s.items.get(String(item.from_bus)))
  const kv = typeof from?.nominal_kv === 'number' ? from.nominal_kv : 0
  const fitting = types
    .filter((t) => t.max_kv * 1.1 >= kv && t.max_kv <= Math.max(kv * 4, 1))
    .map((t) => ({ id: t.name, label: t.name }))
  const choices = [{ id: NONE, label: 'own constants' }, ...fitting]
  const value = typeof item.type === 'string' ? item.type : NONE
  return (
    <Pick
      label={spec.label}
      hideLabel
      value={value}
      choices={choices}
      onChange={(c) => void keep(c === NONE ? null : c)}
    />
  )
}

/** A number or a text: Enter or leaving keeps it, Escape takes it back. */
function Typed({ item, spec, id, invalid, keep, refuse }: EditorProps) {
  const figure = spec.type !== 'text'
  const factor = spec.shown_factor ?? 1
  const value = item[spec.name]
  const shown = typeof value === 'number' ? exact(value, factor) : typeof value === 'string' ? value : ''
  const [draft, setDraft] = useState<string | null>(null)
  const escaped = useRef(false)

  const commit = async () => {
    if (draft === null) return
    const text = draft.trim()
    if (text === shown) return setDraft(null)
    if (!figure || text === '') {
      if (await keep(text === '' && figure ? null : text)) setDraft(null)
      return
    }
    const number = parseNumber(text)
    if (Number.isNaN(number))
      return refuse(
        `“${text}” is not a number. Enter one${spec.unit ? ` in ${spec.shown_unit ?? spec.unit}` : ''}.`,
      )
    if (await keep(number / factor)) setDraft(null)
  }
  return (
    <Value
      id={id}
      $figure={figure}
      value={draft ?? shown}
      aria-invalid={invalid}
      placeholder={figure ? '–' : ''}
      inputMode={figure ? 'decimal' : 'text'}
      autoComplete="off"
      spellCheck={!figure}
      onFocus={(e) => e.currentTarget.select()}
      onChange={(e) => setDraft(e.currentTarget.value)}
      onBlur={() => {
        if (!escaped.current) void commit()
        escaped.current = false
      }}
      onKeyDown={(e) => {
        if (e.key === 'Enter') void commit()
        if (e.key === 'Escape') {
          e.stopPropagation()
          escaped.current = true
          setDraft(null)
          e.currentTarget.blur()
        }
      }}
    />
  )
}
