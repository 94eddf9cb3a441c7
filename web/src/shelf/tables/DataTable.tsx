/** Element data of one kind: edited in its cells, copied to and pasted from a spreadsheet. */
import { useMemo, useRef, useState } from 'react'
import styled from 'styled-components'
import { type FieldSpec, type Kind, messageOf, type Problem, ServiceError } from '../../api/client'
import { Plain } from '../../design/controls'
import { exact, parseNumber } from '../../design/format'
import { font } from '../../design/tokens'
import type { Item } from '../../model/items'
import { pasteTable } from '../../session/edits'
import { catchUp, seenNow, update } from '../../session/queue'
import { notify, selection, selectMany, useBench, useParts } from '../../session/store'
import { Frame, Grid, useGrid } from './Grid'
import { SiftLine } from './SiftLine'
import { useSift } from './sift'

const Tools = styled.div`display: flex; gap: 2px; align-items: center; padding: 2px 8px; border-bottom: 1px solid ${(p) => p.theme.rule}; color: ${(p) => p.theme.quiet}; font-size: 12px;`
const Refusal = styled.div`
  overflow: auto; padding: 8px 16px; table { border-collapse: collapse; font: 400 12px ${font.mono}; } td, th { padding: 1px 8px; text-align: left; white-space: nowrap; }
  tr[data-bad='true'] td { background: ${(p) => p.theme.breachWash}; color: ${(p) => p.theme.breach}; }
  p { color: ${(p) => p.theme.breach}; margin-bottom: 4px; }
`

export function DataTable({ kind }: { kind: Kind }) {
  const { items, project } = useParts('items', 'project')
  const [refused, setRefused] = useState<{ problem: Problem; text: string } | null>(null)
  const [line, setLine] = useState('')
  const sifting = useSift(`data:${kind.kind}`, line)
  const [editing, setEditing] = useState<string | null>(null)
  const every = useMemo(() => [...items.values()].filter((i) => i.kind === kind.kind), [items, kind])
  const ids = useMemo(() => every.map((i) => i.id), [every])
  const rows = useMemo(
    () => (sifting.rows ?? every.map((_, i) => i)).filter((r) => r < every.length),
    [sifting.rows, every],
  )
  const fields = useMemo(() => fieldsOf(kind), [kind])
  const columns = useMemo(
    () =>
      [...fields.values()].map((f) => ({
        name: f.name,
        label: f.label,
        unit: f.shown_unit && f.shown_unit !== '1' ? f.shown_unit : '',
        width: width(f),
        figure: isFigure(f),
        meaning: f.meaning,
        value: (row: number) => (isFigure(f) ? every[row]?.[f.name] : words(every[row]?.[f.name], f, items)),
      })),
    [fields, every, items],
  )
  const grid = useGrid({ columns, rows })
  const copy = async () => {
    const ids = selection().filter((id) => items.get(id)?.kind === kind.kind)
    const query = new URLSearchParams({ kind: kind.kind })
    if (ids.length > 1) for (const id of ids) query.append('ids', id)
    try {
      const response = await fetch(`/api/projects/${project?.id}/table?${query}`)
      await navigator.clipboard.writeText(await response.text())
      notify('news', `${ids.length > 1 ? ids.length : rows.length} rows copied, with headings and units.`)
    } catch (error) {
      notify('problem', `The rows could not be copied: ${messageOf(error)}`)
    }
  }
  const paste = async (text: string) => {
    setRefused(null)
    try {
      await pasteTable(kind.kind, text)
      notify('news', 'The rows have been applied.')
    } catch (error) {
      if (error instanceof ServiceError) setRefused({ problem: error.problem, text })
      else notify('problem', messageOf(error))
    }
  }
  const fromClipboard = async () => {
    try {
      await paste(await navigator.clipboard.readText())
    } catch {
      notify('problem', 'The clipboard may not be read. Click into the table and press Ctrl+V.')
    }
  }
  return (
    <Frame>
      <Tools>
        <Plain onPress={() => void copy()}>Copy rows</Plain>
        <span title="A row whose name is known changes that element; another name adds one. All rows or none.">
          <Plain onPress={() => void fromClipboard()}>Paste rows</Plain>
        </span>
        <Plain
          aria-label="Select on the sheet"
          onPress={() =>
            selectMany(
              grid.order().map((r) => ids[r]!),
              { reveal: true },
            )
          }
          isDisabled={!rows.length}
        >
          Select
        </Plain>
        <SiftLine
          table={`data:${kind.kind}`}
          text={line}
          onChange={setLine}
          sifting={sifting}
          count={rows.length}
          total={every.length}
        />
      </Tools>
      {refused ? (
        <Refused {...refused} close={() => setRefused(null)} />
      ) : (
        <Grid
          grid={grid}
          label={`Data: ${kind.plural}`}
          ids={ids}
          cell={(column, row) => {
            const item = every[row]!
            const spec = fields.get(column.name)!
            if (editing === `${item.id} ${spec.name}`)
              return <Editor item={item} spec={spec} items={items} close={() => setEditing(null)} />
            return words(item[spec.name], spec, items) || (spec.required ? 'missing' : '')
          }}
          marks={(column, row) => ({
            'data-origin': every[row]?.origins?.[column.name],
            'data-missing': Boolean(fields.get(column.name)?.required) && every[row]?.[column.name] == null,
          })}
          onOpen={(column, row) => {
            if (editable(fields.get(column.name)!)) setEditing(`${ids[row]} ${column.name}`)
          }}
          own={{
            'data-own-keys': 'yes',
            onPaste: (e) => {
              if (e.target instanceof HTMLInputElement) return
              e.preventDefault()
              void paste(e.clipboardData.getData('text/plain'))
            },
            onKeyDown: (e) => {
              if ((e.ctrlKey || e.metaKey) && e.key === 'c' && !(e.target instanceof HTMLInputElement))
                void copy()
            },
          }}
        />
      )}
    </Frame>
  )
}

/** What can be shown in a cell, by name. */
const fieldsOf = (kind: Kind): ReadonlyMap<string, FieldSpec> =>
  new Map(
    kind.fields
      .filter((f) => f.type !== 'other' && f.group !== 'place' && f.name !== 'note')
      .sort((a, b) => rank(a) - rank(b))
      .map((f) => [f.name, f]),
  )

/** Name, connections, what is entered, then the rest. */
function rank(f: FieldSpec): number {
  if (f.name === 'name') return 0
  if (f.terminal) return 1
  return f.group !== 'data' || f.name === 'in_service' || f.name === 'conductors' ? 3 : 2
}

const isFigure = (f: FieldSpec) => f.type === 'number' || f.type === 'integer'
const width = (f: FieldSpec) => (f.name === 'name' ? 180 : isFigure(f) ? 104 : f.catalogue ? 190 : 120)

function words(value: unknown, spec: FieldSpec, items: ReadonlyMap<string, Item>): string {
  if (value === null || value === undefined) return ''
  if (typeof value === 'boolean') return value ? 'yes' : 'no'
  if (typeof value === 'number') return exact(value, spec.shown_factor ?? 1)
  if (Array.isArray(value)) return value.join(', ')
  return spec.ref ? (items.get(String(value))?.name ?? String(value)) : String(value)
}

const editable = (f: FieldSpec) => (isFigure(f) || f.type === 'text') && !f.catalogue

/** A figure or a text being edited in its cell. */
function Editor(props: { item: Item; spec: FieldSpec; items: ReadonlyMap<string, Item>; close: () => void }) {
  const { item, spec, items, close } = props
  const before = words(item[spec.name], spec, items)
  const [draft, setDraft] = useState(before)
  const [began] = useState(() => ({ revision: seenNow(), before }))
  const given = useRef(false)
  const keep = async () => {
    close()
    const text = draft.trim()
    if (given.current || text === began.before) return
    const value = isFigure(spec) ? (text === '' ? null : parseNumber(text) / (spec.shown_factor ?? 1)) : text
    if (typeof value === 'number' && Number.isNaN(value))
      return notify('problem', `${item.name}, ${spec.label}: “${text}” is not a number.`)
    try {
      await update(
        item,
        { [spec.name]: value },
        `Set ${spec.label.toLowerCase()} of ${item.name}`,
        began.revision,
      )
    } catch (error) {
      if (error instanceof ServiceError && error.problem.code === 'conflict') {
        await catchUp()
        const now = words(useBench.getState().items.get(item.id)?.[spec.name], spec, items) || 'blank'
        const refused = `${item.name}, ${spec.label}: changed to ${now} elsewhere since you began. ${text || 'Blank'} was not taken; enter it again to set it.`
        return notify('problem', refused)
      }
      notify('problem', messageOf(error))
    }
  }
  return (
    <input
      aria-label={`${spec.label} of ${item.name}`}
      value={draft}
      ref={focused}
      onChange={(e) => setDraft(e.currentTarget.value)}
      onBlur={() => void keep()}
      onKeyDown={(e) => {
        e.stopPropagation()
        if (e.key === 'Enter') e.currentTarget.blur()
        if (e.key === 'Escape') {
          given.current = true
          e.currentTarget.blur()
        }
      }}
    />
  )
}

const focused = (el: HTMLInputElement | null) => el?.focus()

/** What was pasted, with the bad rows marked; nothing of it has been applied. */
function Refused({ problem, text, close }: { problem: Problem; text: string; close: () => void }) {
  const lines = text.split('\n').filter((l) => l.trim())
  const errors = problem.errors ?? []
  const of = (n: number) => errors.filter((e) => e.element === `row ${n}`)
  return (
    <Refusal role="alert">
      <p>
        Nothing was applied.{' '}
        {errors.length ? `${new Set(errors.map((e) => e.element)).size} places need a look:` : problem.detail}{' '}
        <Plain onPress={close}>Back to the table</Plain>
      </p>
      <table>
        <tbody>
          {lines.slice(0, 300).map((line, n) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: pasted lines have no other identity
            <tr key={n} data-bad={of(n).length > 0}>
              <th>{n || ''}</th>
              {line.split('\t').map((c, k) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: nor have their cells
                <td key={k}>{c}</td>
              ))}
              <td>
                {of(n)
                  .map((e) => `${e.field}: ${e.allowed}`)
                  .join('; ')}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {errors
        .filter((e) => !e.element.startsWith('row '))
        .map((e) => (
          <p key={e.element + e.field}>
            {e.field}: {e.allowed}
          </p>
        ))}
    </Refusal>
  )
}
