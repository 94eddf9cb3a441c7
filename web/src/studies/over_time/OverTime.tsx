/** The page of conditions over time: profiles come in here, and any step can be shown on the sheet. */
import { useQuery } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import styled from 'styled-components'
import { studiesQuery } from '../../api/queries'
import { Button, Pick, Plain } from '../../design/controls'
import { useKept } from '../../session/kept'
import { tryMoment } from '../../session/live'
import { fetchProfiles, importProfiles } from '../../session/profiles'
import { useBench } from '../../session/store'
import { CellTaken, type TakeCell } from '../../shelf/cells'
import { StudyPage } from '../StudyPage'
import type { StudyResult } from '../useStudy'
import { Course } from './Course'

const PANES = [{ id: 'course', label: 'Course', Body: Course }]

const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%; min-height: 0;`
const Strip = styled.div`
  display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: center; padding: 4px 14px; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 36px;
  span { color: ${(p) => p.theme.quiet}; } label { display: flex; gap: 5px; align-items: center; color: ${(p) => p.theme.quiet}; }
  input[type='text'] { width: 190px; height: 26px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 4px; padding: 0 6px; background: ${(p) => p.theme.paper}; color: ${(p) => p.theme.ink}; }
  input[type='file'] { display: none; } p { flex-basis: 100%; color: ${(p) => p.theme.quiet}; }
`

export function OverTime() {
  const study = useQuery(studiesQuery).data?.find((s) => s.name === 'over_time')
  return (
    <Frame>
      <Profiles />
      <CellTaken value={openStep}>
        {study ? <StudyPage study={study} Beside={StepPick} panes={PANES} /> : null}
      </CellTaken>
    </Frame>
  )
}

/** A cell of the calendar is a step. */
const openStep: TakeCell = (figure, day, hour) => {
  if (figure !== 'calendar') return false
  tryMoment(`${day}T${hour}`)
  return true
}

/** What profiles there are, and the ways in: a file, pasted rows, or a metering service on this machine. */
function Profiles() {
  const count = useBench((s) => {
    let n = 0
    for (const i of s.items.values()) if (i.kind === 'profile') n++
    return n
  })
  const file = useRef<HTMLInputElement>(null)
  const [fill, setFill] = useKept('fill gaps', false)
  const [address, setAddress] = useKept('metering service', 'http://127.0.0.1:8431')
  const [notes, setNotes] = useState<readonly string[]>([])
  const [busy, setBusy] = useState(false)
  const take = async (work: () => Promise<readonly string[] | null>) => {
    setBusy(true)
    const found = await work()
    setBusy(false)
    if (found) setNotes(found)
  }
  const paste = () =>
    take(async () => {
      const text = await navigator.clipboard.readText()
      return importProfiles(new Blob([text]), fill)
    })
  return (
    <Strip role="toolbar" aria-label="Profiles">
      <span>{count === 1 ? '1 profile' : `${count} profiles`}</span>
      <Button isDisabled={busy} onPress={() => file.current?.click()}>
        Import a file
      </Button>
      <Button isDisabled={busy} onPress={() => void paste()}>
        Paste rows
      </Button>
      <label title="Missing figures are put on a straight line between their neighbours, up to 24 in a row">
        <input type="checkbox" checked={fill} onChange={(e) => setFill(e.currentTarget.checked)} />
        fill gaps
      </label>
      <input
        type="text"
        aria-label="Metering service"
        value={address}
        onChange={(e) => setAddress(e.currentTarget.value)}
      />
      <Button isDisabled={busy} onPress={() => void take(() => fetchProfiles(address))}>
        Fetch a month
      </Button>
      <input
        ref={file}
        type="file"
        accept=".csv,.txt,.tsv,.parquet"
        aria-label="File of profiles"
        onChange={(e) => {
          const chosen = e.currentTarget.files?.[0]
          e.currentTarget.value = ''
          if (chosen) void take(() => importProfiles(chosen, fill))
        }}
      />
      {notes.length > 0 && (
        <p role="status">
          {notes.slice(0, 4).join(' ')} <Plain onPress={() => setNotes([])}>Hide</Plain>
        </p>
      )}
    </Strip>
  )
}

const MOST = 60
const over = (pct: number | null | undefined) => Math.max((pct ?? 0) - 100, 0)

/** The hardest steps, each shown on the sheet as it was. */
function StepPick({ result }: { result: StudyResult }) {
  const columns = result.tables.steps?.columns ?? []
  const of = (name: string) => columns.find((c) => c.name === name)?.values ?? []
  const [begins, worst, broken] = [
    of('begins') as string[],
    of('worst_pct') as number[],
    of('broken') as number[],
  ]
  const order = begins
    .map((_, n) => n)
    .sort((a, b) => over(worst[b]) - over(worst[a]) || (broken[b] ?? 0) - (broken[a] ?? 0))
    .slice(0, MOST)
  if (!order.length) return null
  return (
    <Pick
      label="Show a step on the sheet"
      hideLabel
      placeholder="show a step"
      value={null}
      choices={order.map((n) => ({ id: String(n), label: begins[n] ?? '' }))}
      onChange={(n) => tryMoment((begins[Number(n)] ?? '').replace(' ', 'T'))}
    />
  )
}
