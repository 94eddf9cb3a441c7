/** One field in place: a value that is typed over; what the service refuses stays, with the reason under it. */
import { memo, useId, useMemo, useRef, useState } from 'react'
import styled from 'styled-components'
import { type FieldSpec, messageOf, ServiceError, type Step } from '../api/client'
import { Pick } from '../design/controls'
import { exact, parseNumber, significant } from '../design/format'
import { Icon } from '../design/Icon'
import { font } from '../design/tokens'
import { busesOf, fits, type Item } from '../model/items'
import { createFor } from '../session/create'
import { confirm } from '../session/edits'
import { catchUp, change, redo, seenNow, undo, update } from '../session/queue'
import { select, useBench } from '../session/store'
import { TypePick } from './TypePick'

const Row = styled.div`
  display: grid; grid-template-columns: 112px minmax(0, 1fr) 44px; align-items: center; column-gap: 8px; min-height: 29px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  > label, > .label { color: ${(p) => p.theme.quiet}; }
  &[data-unitless='true'] > :nth-child(2) { grid-column: 2 / -1; }
  &[data-missing='true'] > label { color: ${(p) => p.theme.breach}; }
`
const Value = styled.input<{ $figure: boolean }>`
  width: 100%; border: 1px solid transparent; border-radius: 4px; background: transparent; padding: 3px 6px; min-width: 0;
  text-align: ${(p) => (p.$figure ? 'right' : 'left')}; font: ${(p) => (p.$figure ? `400 12.5px ${font.mono}` : 'inherit')};
  &:hover { border-color: ${(p) => p.theme.rule}; }
  &:focus { background: ${(p) => p.theme.panel}; outline: 2px solid ${(p) => p.theme.accent}; outline-offset: 0; }
  &::placeholder { color: ${(p) => p.theme.quiet}; font-style: italic; opacity: 1; }
  &[aria-invalid='true'] { outline: 2px solid ${(p) => p.theme.breach}; outline-offset: 0; }
`
const Unit = styled.span<{ $typical: boolean }>`
  font-size: 12px; color: ${(p) => (p.$typical ? p.theme.watchInk : p.theme.quiet)}; white-space: nowrap;
`
const Confirm = styled.button`
  border: none; background: none; padding: 0 4px 0 0; min-height: 24px; text-align: left; color: inherit; cursor: pointer;
  margin: -3px 0; &:hover { font-weight: 600; }
`
const Reason = styled.p`
  grid-column: 1 / -1; color: ${(p) => p.theme.breach}; font-size: 12px; padding: 2px 0 5px; white-space: normal;
`

const Choice = styled.button`
  border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; background: ${(p) => p.theme.panel}; color: ${(p) => p.theme.accent};
  min-height: 24px; padding: 0 8px; margin: 2px 6px 0 0; cursor: pointer;
`

interface Props {
  readonly item: Item
  readonly spec: FieldSpec
  /** Others that are edited along with it. */
  readonly others?: readonly Item[]
  /** What the blank field comes to, and how. */
  readonly computed?: Step | undefined
}

/** Whether a field means something as the item stands. */
export function applies(item: Item, spec: FieldSpec): boolean {
  return Object.entries(spec.when ?? {}).every(([field, wanted]) => {
    const value = item[field]
    return wanted.some((w) =>
      typeof w === 'string' && w.startsWith('~')
        ? value !== null && value !== undefined && String(value).includes(w.slice(1))
        : w === value,
    )
  })
}

/** A row whose value, sign and worked-out figure are what they were need not be drawn again. */
export const Field = memo(FieldRow, (a, b) => {
  if (a.others?.length || b.others?.length || !PLAIN.has(a.spec.type) || a.spec.catalogue || a.spec.picks)
    return false
  const [now, then] = [b.item, a.item]
  const { name } = a.spec
  return (
    now.id === then.id &&
    now.name === then.name &&
    same(a.spec, b.spec) &&
    same(now[name], then[name]) &&
    now.origins?.[name] === then.origins?.[name] &&
    same(a.computed, b.computed)
  )
})

const PLAIN = new Set<FieldSpec['type']>(['number', 'integer', 'text', 'texts', 'date', 'yes_no', 'choice'])

/** Two edits of one field: what the later one typed, and the edit that came first, in words. */
interface Clash {
  readonly mine: unknown
  readonly by: string
}

function FieldRow({ item, spec, others = [], computed }: Props) {
  const [reason, setReason] = useState<string | null>(null)
  const [clash, setClash] = useState<Clash | null>(null)
  const id = useId()
  const differ = others.some((o) => !same(o[spec.name], item[spec.name]))
  const value = differ ? undefined : item[spec.name]
  const keep = async (next: unknown, seen?: number) => {
    setReason(null)
    setClash(null)
    if (same(next, value) && !differ) return true
    const values = { [spec.name]: next }
    try {
      if (others.length) {
        const label = `Set ${spec.label.toLowerCase()} of ${others.length + 1} elements`
        await change(
          label,
          [item, ...others].map((i) => ({ op: 'update', id: i.id, values, origins: {} })),
          seen,
        )
      } else await update(item, values, `Set ${spec.label.toLowerCase()} of ${item.name}`, seen)
      return true
    } catch (error) {
      if (error instanceof ServiceError && error.problem.code === 'conflict') {
        await catchUp()
        setClash({ mine: next, by: error.problem.changes_since?.at(-1)?.label ?? 'another edit' })
        return true
      }
      setReason(reasonFor(error))
      return false
    }
  }
  const origin = item.origins?.[spec.name]
  const unit = spec.shown_unit && spec.shown_unit !== '1' ? spec.shown_unit : ''
  const blank = value === undefined || value === null
  const missing = Boolean(spec.required) && blank && !differ
  const shown = differ ? { ...item, [spec.name]: undefined } : item
  const known = blank && !differ ? computed : undefined
  return (
    <Row
      data-field={spec.name}
      data-missing={missing}
      data-unitless={!!spec.picks || undefined}
      title={spec.meaning}
    >
      <FieldLabel spec={spec} id={id} missing={missing} />
      <Editor
        {...{ item: shown, spec, keep, id, differ, computed: known }}
        refuse={setReason}
        invalid={reason !== null}
      />
      {!spec.catalogue && !spec.picks && (
        <Unit
          $typical={origin === 'typical'}
          title={known ? `${known.label}: ${known.formula}` : origin ? `${origin} value` : undefined}
        >
          {known && '= '}
          {!known && origin === 'typical' && (
            <Confirm
              type="button"
              aria-label={`Confirm ${spec.label.toLowerCase()}`}
              title="typical: click to confirm it"
              onClick={() => void confirm(item, [spec.name])}
            >
              ≈
            </Confirm>
          )}
          {!known && origin === 'catalogue' && '§ '}
          {unit}
        </Unit>
      )}
      {reason && <Reason role="alert">{reason}</Reason>}
      {clash && (
        <Reason role="alert">
          Changed elsewhere since you began (“{clash.by}”): it is {told(value, spec)} {unit} now, you entered{' '}
          {told(clash.mine, spec)} {unit}.
          <br />
          <Choice type="button" onClick={() => void keep(clash.mine)}>
            Take {told(clash.mine, spec)}
          </Choice>
          <Choice type="button" onClick={() => setClash(null)}>
            Leave {told(value, spec)}
          </Choice>
        </Reason>
      )}
    </Row>
  )
}

/** A value as its field shows it. */
function told(value: unknown, spec: FieldSpec): string {
  if (value === undefined || value === null || value === '') return 'blank'
  return typeof value === 'number' ? exact(value, spec.shown_factor ?? 1) : String(value)
}

/** One option of a study: the same row and editor as in the card, kept by whoever asks. */
export function OptionField(props: { spec: FieldSpec; options: Item; keep: (value: unknown) => void }) {
  const { spec, options, keep } = props
  const [reason, setReason] = useState<string | null>(null)
  const id = useId()
  const unit = spec.shown_unit && spec.shown_unit !== '1' ? spec.shown_unit : ''
  return (
    <Row data-option={spec.name} data-unitless={!unit} title={spec.meaning}>
      <FieldLabel spec={spec} id={id} missing={false} />
      <Editor
        {...{ item: options, spec, id, differ: false, computed: undefined }}
        keep={async (value) => {
          setReason(null)
          keep(value)
          return true
        }}
        refuse={setReason}
        invalid={reason !== null}
      />
      {unit && <Unit $typical={false}>{unit}</Unit>}
      {reason && <Reason role="alert">{reason}</Reason>}
    </Row>
  )
}

function FieldLabel({ spec, id, missing }: { spec: FieldSpec; id: string; missing: boolean }) {
  const words = `${spec.label}${missing ? ' (missing)' : ''}`
  const typed = ['number', 'integer', 'text', 'texts', 'date'].includes(spec.type)
  return typed && !spec.catalogue ? (
    <label htmlFor={id}>{words}</label>
  ) : (
    <span className="label">{words}</span>
  )
}

const same = (a: unknown, b: unknown) =>
  (a ?? null) === (b ?? null) || JSON.stringify(a) === JSON.stringify(b)

function reasonFor(error: unknown): string {
  if (!(error instanceof ServiceError)) return messageOf(error)
  const first = error.problem.errors?.[0]
  return first ? `${first.value ?? 'Nothing'} is not allowed: ${first.allowed}.` : error.problem.detail
}

interface EditorProps extends Props {
  readonly id: string
  readonly invalid: boolean
  readonly differ: boolean
  readonly keep: (value: unknown, seen?: number) => Promise<boolean>
  readonly refuse: (reason: string) => void
}

function Editor(props: EditorProps) {
  const { item, spec, keep } = props
  const value = item[spec.name]
  if (spec.catalogue) return <TypePick item={item} spec={spec} keep={keep} />
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
  if (spec.type === 'references') return <ReferencesPick {...props} />
  return <Typed {...props} />
}

const NONE = '—'
const NEW = '+'
const With = styled.div`display: flex; align-items: center; min-width: 0; > :first-child { min-width: 0; }`
const Open = styled.button`
  border: none; background: none; padding: 0; color: ${(p) => p.theme.accent}; cursor: pointer; display: flex; flex: none;
  width: 24px; height: 24px; align-items: center; justify-content: center;
`

function ReferencePick({ item, spec, keep }: EditorProps) {
  const items = useBench((s) => s.items)
  const choices = useMemo(() => {
    const fresh = CREATED[spec.ref ?? '']
    const found = [...items.values()].filter((i) => fits(i, spec.ref) && i.id !== item.id)
    // What is connected to the same bus is most likely meant.
    const here = new Set(busesOf(item))
    const near = (i: Item) => (here.size && busesOf(i).some((b) => here.has(b)) ? 0 : 1)
    if (here.size) found.sort((a, b) => near(a) - near(b))
    return [
      ...(spec.required ? [] : [{ id: NONE, label: 'none' }]),
      ...(fresh ? [{ id: NEW, label: `new ${fresh} …` }] : []),
      ...found.map((i) => ({ id: i.id, label: i.name })),
    ]
  }, [items, spec, item])
  const value = item[spec.name]
  const choose = async (c: string) => {
    if (c !== NEW) return keep(c === NONE ? null : c)
    const made = await createFor(item, spec.name, spec.ref ?? '')
    if (made) select(made)
    return made !== null
  }
  return (
    <With>
      <Pick
        label={spec.label}
        hideLabel
        value={typeof value === 'string' ? value : NONE}
        choices={choices}
        onChange={(c) => void choose(c)}
      />
      {typeof value === 'string' && items.has(value) && (
        <Open type="button" aria-label={`Open ${items.get(value)?.name}`} onClick={() => select(value)}>
          <Icon name="right" size={13} />
        </Open>
      )}
    </With>
  )
}

const Several = styled.div`
  display: flex; flex-wrap: wrap; gap: 2px 4px; align-items: center; min-width: 0; padding: 2px 0;
  > span { display: inline-flex; align-items: center; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; padding-left: 6px; max-width: 100%; font-size: 12px; }
  > span button, > button { border: none; background: none; color: ${(p) => p.theme.accent}; cursor: pointer; min-height: 24px; padding: 0 5px; font-size: 12px; }
`
/** Beyond this many they are counted and not named. */
const MOST_NAMED = 6

/** Several of a kind: named one by one, or taken over from what is selected on the sheet. */
function ReferencesPick({ item, spec, keep }: EditorProps) {
  const items = useBench((s) => s.items)
  const selected = useBench((s) => s.selected)
  const chosen = useBench((s) => s.chosen)
  const value = (Array.isArray(item[spec.name]) ? item[spec.name] : []) as string[]
  const rest = useMemo(
    () =>
      [...items.values()]
        .filter((i) => fits(i, spec.ref) && !value.includes(i.id))
        .map((i) => ({ id: i.id, label: i.name })),
    [items, spec, value],
  )
  const onSheet = [...(chosen.size ? chosen : selected ? [selected] : [])].filter((id) => {
    const found = items.get(id)
    return found && fits(found, spec.ref) && !value.includes(id)
  })
  return (
    <Several role="group" aria-label={spec.label}>
      {value.length > MOST_NAMED ? (
        <span>
          {value.length} chosen
          <button type="button" aria-label="Take all out" onClick={() => void keep([])}>
            ×
          </button>
        </span>
      ) : (
        value.map((id) => (
          <span key={id}>
            {items.get(id)?.name ?? id}
            <button
              type="button"
              aria-label={`Take ${items.get(id)?.name ?? id} out`}
              onClick={() => void keep(value.filter((v) => v !== id))}
            >
              ×
            </button>
          </span>
        ))
      )}
      {rest.length > 0 && (
        <Pick
          label={`Add to ${spec.label.toLowerCase()}`}
          hideLabel
          placeholder={value.length ? 'add' : 'any'}
          value={null}
          choices={rest}
          onChange={(id) => void keep([...value, id])}
        />
      )}
      {onSheet.length > 0 && (
        <button type="button" onClick={() => void keep([...value, ...onSheet])}>
          {onSheet.length === 1 ? 'the selected one' : `the ${onSheet.length} selected`}
        </button>
      )}
    </Several>
  )
}

/** What can be made on the spot, where a field refers to it. */
const CREATED: Readonly<Record<string, string>> = {
  line_geometry: 'geometry',
  area: 'area',
  substation: 'substation',
}

function placeholder(
  differ: boolean,
  computed: Step | undefined,
  factor: number,
  figure: boolean,
  type: FieldSpec['type'],
): string {
  if (differ) return 'several'
  if (computed)
    return typeof computed.value === 'number' ? significant(computed.value * factor, 4) : computed.value
  if (type === 'date') return 'year-month-day'
  return figure ? '–' : ''
}

/** A number or a text: Enter or leaving keeps it, Escape takes it back. */
function Typed({ item, spec, id, invalid, keep, refuse, differ, computed }: EditorProps) {
  const figure = spec.type === 'number' || spec.type === 'integer'
  const list = spec.type === 'texts'
  const factor = spec.shown_factor ?? 1
  const value = item[spec.name]
  const shown =
    typeof value === 'number'
      ? exact(value, factor)
      : Array.isArray(value)
        ? value.join(', ')
        : typeof value === 'string'
          ? value
          : ''
  const [draft, setDraft] = useState<string | null>(null)
  const escaped = useRef(false)
  /** The revision and the text that stood here when typing began. */
  const began = useRef({ revision: 0, shown: '' })
  const type = (text: string) => {
    if (draft === null) began.current = { revision: seenNow(), shown }
    setDraft(text)
  }

  const commit = async () => {
    if (draft === null) return
    const text = draft.trim()
    if (text === began.current.shown) return setDraft(null)
    const seen = began.current.revision
    if (!figure || text === '') {
      const words = text.split(',').map((w) => w.trim())
      const next = text === '' && spec.name !== 'note' ? null : list ? words.filter(Boolean) : text
      if (await keep(next, seen)) setDraft(null)
      return
    }
    const number = parseNumber(text)
    if (Number.isNaN(number))
      return refuse(
        `“${text}” is not a number. Enter one${spec.unit ? ` in ${spec.shown_unit ?? spec.unit}` : ''}.`,
      )
    if (await keep(number / factor, seen)) setDraft(null)
  }
  return (
    <Value
      id={id}
      $figure={figure}
      value={draft ?? shown}
      aria-invalid={invalid}
      placeholder={placeholder(differ, computed, factor, figure, spec.type)}
      inputMode={figure ? 'decimal' : 'text'}
      autoComplete="off"
      spellCheck={!figure}
      onFocus={(e) => e.currentTarget.select()}
      onChange={(e) => type(e.currentTarget.value)}
      onPaste={(e) => {
        // Rows from a spreadsheet: one line of text holds them, apart by semicolons.
        const rows = e.clipboardData.getData('text').trim()
        if (spec.type !== 'text' || spec.name === 'note' || !/[\r\n]/.test(rows)) return
        e.preventDefault()
        type(
          rows
            .split(/[\r\n]+/)
            .map((r) => r.split('\t').join(' ').trim())
            .join('; '),
        )
      }}
      onBlur={() => {
        if (!escaped.current) void commit()
        escaped.current = false
      }}
      onKeyDown={(e) => {
        if (e.key === 'Enter') void commit()
        if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'z') {
          // The browser would bring back the text and leave the edit: what is typed is taken back, else the last edit.
          e.preventDefault()
          if (draft !== null) setDraft(null)
          else void (e.shiftKey ? redo() : undo())
        }
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
