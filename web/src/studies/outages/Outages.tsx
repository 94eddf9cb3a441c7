/** The page of the outages, where any of them can be shown on the sheet. */
import { useQuery } from '@tanstack/react-query'
import { studiesQuery } from '../../api/queries'
import { Pick } from '../../design/controls'
import { tryLoss } from '../../session/live'
import { useBench } from '../../session/store'
import { StudyPage } from '../StudyPage'
import type { StudyResult } from '../useStudy'

export function Outages() {
  const study = useQuery(studiesQuery).data?.find((s) => s.name === 'outages')
  return study ? <StudyPage study={study} Beside={LossPick} /> : null
}

const MOST = 200
const APART = '; '

/** One of the outages, the worst first, shown on the sheet as the load flow without what is lost. */
function LossPick({ result }: { result: StudyResult }) {
  const items = useBench((s) => s.items)
  const columns = result.tables.outages?.columns ?? []
  const of = (name: string) => (columns.find((c) => c.name === name)?.values ?? []) as string[]
  const [names, members] = [of('name'), of('members')]
  const choices = names.slice(0, MOST).map((label, n) => ({ id: String(n), label }))
  if (!choices.length) return null
  return (
    <Pick
      label="Show on the sheet the loss of"
      hideLabel
      placeholder="show the loss of"
      value={null}
      choices={choices}
      onChange={(n) => {
        const ids = (members[Number(n)] ?? '').split(APART).filter((i) => items.has(i))
        if (ids.length) tryLoss(ids, names[Number(n)] ?? '')
      }}
    />
  )
}
