/** Asking the service which rows a sift line picks, and completing what is typed. No JSX. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { messageOf, type Problem, ServiceError } from '../../api/client'
import { siftHelpQuery, siftQuery } from '../../api/queries'
import { useBench, useLiveToken, useParts } from '../../session/store'

export interface Sifting {
  /** Rows that fit, in order; null where all of them do. */
  readonly rows: readonly number[] | null
  readonly problem: { readonly text: string; readonly at: number } | null
  readonly took: number | null
}

const ALL: Sifting = { rows: null, problem: null, took: null }
const QUIET_MS = 160

function useQuiet<T>(value: T): T {
  const [quiet, setQuiet] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setQuiet(value), QUIET_MS)
    return () => clearTimeout(timer)
  }, [value])
  return quiet
}

/** Rows of a table that fit a line; asked again whenever the result is another one. */
export function useSift(table: string, text: string, address = 'live'): Sifting {
  const { project, pinned, looking } = useParts('project', 'pinned', 'looking')
  const live = useLiveToken()
  const quiet = useQuiet(text.trim())
  const { data, error } = useQuery({
    ...siftQuery(
      project?.id ?? '',
      address,
      address === 'live' ? live : '',
      table,
      quiet,
      pinned?.run ?? null,
    ),
    enabled: !!project && quiet !== '' && !looking,
    placeholderData: keepPreviousData,
  })
  if (!quiet) return ALL
  if (error) return { rows: [], problem: problemOf(error), took: null }
  return data ? { rows: data.rows, problem: null, took: data.took_ms } : ALL
}

function problemOf(error: unknown): Sifting['problem'] {
  const problem: Problem | null = error instanceof ServiceError ? error.problem : null
  const at = problem?.errors?.[0]?.value
  return { text: messageOf(error), at: typeof at === 'number' ? at : 0 }
}

export interface Hint {
  readonly word: string
  readonly about: string
}

export function useHints(table: string, address = 'live'): readonly Hint[] {
  const project = useBench((s) => s.project?.id)
  const { data } = useQuery({
    ...siftHelpQuery(project ?? '', address, table),
    enabled: !!project,
    staleTime: Number.POSITIVE_INFINITY,
  })
  return [
    ...(data?.columns ?? []).map((c) => ({
      word: c.name,
      about: [c.label, c.unit ? `in ${c.unit}` : '', c.meaning].filter(Boolean).join(', '),
    })),
    ...Object.entries(data?.functions ?? {}).map(([name, about]) => ({ word: `${name}(`, about })),
    ...WORDS,
  ]
}

const WORDS: readonly Hint[] = [
  { word: 'and', about: 'both' },
  { word: 'or', about: 'either' },
  { word: 'not', about: 'the others' },
  { word: 'in (', about: 'one of several: kind in (line, switch)' },
  { word: 'pinned.', about: 'the same column of the pinned run' },
  { word: 'largest', about: 'at the end: , largest loading_pct first' },
  { word: 'smallest', about: 'at the end: , smallest voltage_pu first' },
]

/** The word that is being typed: where it begins, and what of it stands before the cursor. */
export function wordAt(text: string, cursor: number): { start: number; part: string } {
  const before = text.slice(0, cursor)
  const part = /(?:pinned\.)?[A-Za-z_][\w]*$/.exec(before)?.[0] ?? ''
  const bare = part.startsWith('pinned.') ? part.slice(7) : part
  return { start: cursor - bare.length, part: bare }
}

/** What could stand here, the best first; nothing while nothing is typed. */
export function complete(hints: readonly Hint[], text: string, cursor: number): Hint[] {
  const { part } = wordAt(text, cursor)
  if (!part || (text.slice(0, cursor).match(/["']/g)?.length ?? 0) % 2) return []
  const low = part.toLowerCase()
  // Behind a figure a unit may be meant: only what begins so is offered there.
  const unit = /\d\s*$/.test(text.slice(0, cursor - part.length))
  const fits = (word: string) => (unit ? word.startsWith(low) : word.includes(low))
  const hits = hints.filter((h) => fits(h.word.toLowerCase()) && h.word !== part)
  const rank = (h: Hint) => (h.word.toLowerCase().startsWith(low) ? 0 : 1)
  return hits.sort((a, b) => rank(a) - rank(b)).slice(0, 8)
}

/** Conditions typed into the row under the headings, as part of a sift line. */
export function filterLine(
  filters: Readonly<Record<string, string>>,
  isNumber: (column: string) => boolean,
): string {
  return Object.entries(filters)
    .filter(([, f]) => f.trim())
    .map(([column, typed]) => {
      const f = typed.trim()
      if (!isNumber(column))
        return /^[=~!]/.test(f) ? `${column} ${f}` : `${column} ~ "${f.replaceAll('"', '')}"`
      const range = /^(.+?)\s*\.\.\s*(.+)$/.exec(f)
      if (range) return `${column} >= ${range[1]} and ${column} <= ${range[2]}`
      return /^[<>=!]/.test(f) ? `${column} ${f}` : `${column} = ${f}`
    })
    .join(' and ')
}

/** One line of what was typed above and below; an order stays at its end. */
export function joined(line: string, filters: string): string {
  if (!filters) return line
  const order = /,?\s*(largest|smallest)\b.*$/.exec(line)?.[0] ?? ''
  const test = line.slice(0, line.length - order.length).trim()
  const tests = test ? `(${test}) and ${filters}` : filters
  return order ? `${tests}, ${order.replace(/^,\s*/, '')}` : tests
}
