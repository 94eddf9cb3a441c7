/** Element data of one kind: edited in its cells, copied to and pasted from a spreadsheet. */
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef, useState } from 'react'
import styled from 'styled-components'
import { type FieldSpec, type Kind, messageOf, type Problem, ServiceError } from '../../api/client'
import { Plain } from '../../design/controls'
import { exact, parseNumber } from '../../design/format'
import { font } from '../../design/tokens'
import type { Item } from '../../model/items'
import { pasteTable } from '../../session/edits'
import { update } from '../../session/queue'
import { notify, select, selection, selectMany, useBench } from '../../session/store'
import { SiftLine } from './SiftLine'
import { useSift } from './sift'

const Scroll = styled.div`overflow: auto; min-height: 0; height: 100%; &:focus-visible { outline-offset: -3px; }`
const Line = styled.div`display: flex; height: 26px; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule}; min-width: max-content;`
const Head = styled(Line)`
  position: sticky; top: 0; z-index: 1; background: ${(p) => p.theme.paper}; color: ${(p) => p.theme.quiet}; font-size: 12px; height: 28px;
`
const Row = styled(Line)`
  position: absolute; left: 0; cursor: pointer;
  &:hover, &[aria-selected='true'] { background: ${(p) => p.theme.accentWash}; }
`
const Cell = styled.div<{ $figure: boolean; $width: number }>`
  width: ${(p) => p.$width}px; padding: 0 8px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; flex: none;
  ${(p) => (p.$figure ? `font: 400 12.5px ${font.mono}; text-align: right;` : '')}
  &[data-origin='typical'] { color: ${(p) => p.theme.watchInk}; } &[data-missing='true'] { color: ${(p) => p.theme.breach}; }
  input { width: 100%; border: 1px solid ${(p) => p.theme.accent}; background: ${(p) => p.theme.panel}; font: inherit; text-align: inherit; padding: 0 3px; }
`
const Tools = styled.div`display: flex; gap: 2px; align-items: center; padding: 2px 8px; border-bottom: 1px solid ${(p) => p.theme.rule}; color: ${(p) => p.theme.quiet}; font-size: 12px;`
const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); min-height: 0; height: 100%;`
const Refusal = styled.div`
  overflow: auto; padding: 8px 16px; table { border-collapse: collapse; font: 400 12px ${font.mono}; } td, th { padding: 1px 8px; text-align: left; white-space: nowrap; }
  tr[data-bad='true'] td { background: ${(p) => p.theme.breachWash}; color: ${(p) => p.theme.breach}; }
  p { color: ${(p) => p.theme.breach}; margin-bottom: 4px; }
`

const ROW = 26

export function DataTable({ kind }: { kind: Kind }) {
  const { items, selected, chosen, project } = useBench()
  const scroll = useRef<HTMLDivElement>(null)
  const [refused, setRefused] = useState<{ problem: Problem; text: string } | null>(null)
  const [line, setLine] = useState('')
  const sifting = useSift(`data:${kind.kind}`, line)
  const every = [...items.values()].filter((i) => i.kind === kind.kind)
  const rows = sifting.rows ? sifting.rows.flatMap((r) => every[r] ?? []) : every
  const fields = kind.fields
    .filter((f) => f.type !== 'other' && f.group !== 'place' && f.name !== 'note')
    .sort((a, b) => rank(a) - rank(b))
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 10,
  })
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
              rows.map((r) => r.id),
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
        <Scroll
          ref={scroll}
          tabIndex={0}
          role="grid"
          data-own-keys="yes"
          aria-label={`Data: ${kind.plural}`}
          aria-rowcount={rows.length + 1}
          onPaste={(e) => {
            if (e.target instanceof HTMLInputElement) return
            e.preventDefault()
            void paste(e.clipboardData.getData('text/plain'))
          }}
          onKeyDown={(e) => {
            if ((e.ctrlKey || e.metaKey) && e.key === 'c' && !(e.target instanceof HTMLInputElement))
              void copy()
          }}
        >
          <Head role="row">
            {fields.map((f) => (
              <Cell
                key={f.name}
                role="columnheader"
                $figure={isFigure(f)}
                $width={width(f)}
                title={f.meaning}
              >
                {f.label}
                {f.shown_unit && f.shown_unit !== '1' ? ` ${f.shown_unit}` : ''}
              </Cell>
            ))}
          </Head>
          <div role="rowgroup" style={{ position: 'relative', height: virtual.getTotalSize() }}>
            {virtual.getVirtualItems().map((v) => {
              const item = rows[v.index]!
              return (
                <Row
                  key={item.id}
                  role="row"
                  aria-rowindex={v.index + 2}
                  aria-selected={item.id === selected || chosen.has(item.id)}
                  style={{ top: v.start }}
                  onClick={() => select(item.id, { reveal: true })}
                >
                  {fields.map((f) => (
                    <DataCell key={f.name} item={item} spec={f} items={items} />
                  ))}
                </Row>
              )
            })}
          </div>
        </Scroll>
      )}
    </Frame>
  )
}

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

/** A double click, or Enter on a focused cell, edits a figure or a text in place. */
function DataCell({ item, spec, items }: { item: Item; spec: FieldSpec; items: ReadonlyMap<string, Item> }) {
  const [draft, setDraft] = useState<string | null>(null)
  const shown = words(item[spec.name], spec, items)
  const editable = (isFigure(spec) || spec.type === 'text') && !spec.catalogue
  const keep = async () => {
    const text = (draft ?? '').trim()
    setDraft(null)
    if (draft === null || text === shown) return
    const value = isFigure(spec) ? (text === '' ? null : parseNumber(text) / (spec.shown_factor ?? 1)) : text
    if (typeof value === 'number' && Number.isNaN(value))
      return notify('problem', `${item.name}, ${spec.label}: “${text}” is not a number.`)
    try {
      await update(item, { [spec.name]: value }, `Set ${spec.label.toLowerCase()} of ${item.name}`)
    } catch (error) {
      notify('problem', messageOf(error))
    }
  }
  return (
    <Cell
      role="gridcell"
      $figure={isFigure(spec)}
      $width={width(spec)}
      data-origin={item.origins?.[spec.name]}
      data-missing={Boolean(spec.required) && !shown}
      onDoubleClick={() => editable && setDraft(shown)}
    >
      {draft === null ? (
        shown || (spec.required ? 'missing' : '')
      ) : (
        <input
          aria-label={`${spec.label} of ${item.name}`}
          value={draft}
          ref={(el) => el?.focus()}
          onChange={(e) => setDraft(e.currentTarget.value)}
          onBlur={() => void keep()}
          onKeyDown={(e) => {
            e.stopPropagation()
            if (e.key === 'Enter') e.currentTarget.blur()
            if (e.key === 'Escape') setDraft(null)
          }}
        />
      )}
    </Cell>
  )
}

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
