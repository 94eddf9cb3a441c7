/** Phase balancing: the feeder is what feeds the selection, and what may move the buses that are chosen. */
import { useQuery } from '@tanstack/react-query'
import { studiesQuery, supplyQuery } from '../../api/queries'
import { Button } from '../../design/controls'
import { fits } from '../../model/items'
import { updateOrTell } from '../../session/queue'
import { useParts, useSettings } from '../../session/store'
import { StudyPage } from '../StudyPage'

export function Balance() {
  const study = useQuery(studiesQuery).data?.find((s) => s.name === 'balancing')
  return study ? <StudyPage study={study} useSuggested={useFeeder} Before={PerPhase} /> : null
}

/** A branch is the head itself; of a bus or load it is the transformer that feeds it. Several buses: only what is there moves. */
function useFeeder(): Readonly<Record<string, unknown>> {
  const { project, items, selected, chosen, revision } = useParts(
    'project',
    'items',
    'selected',
    'chosen',
    'revision',
  )
  const item = items.get(selected ?? '')
  const own = item && fits(item, 'branch') && chosen.size < 2 ? item.id : null
  const { data: supply } = useQuery({
    ...supplyQuery(project?.id ?? '', revision, selected ?? ''),
    enabled: !!project && !!item && !own,
  })
  const above = supply?.path.find((id) => id !== selected && items.get(id)?.kind === 'transformer')
  const buses = chosen.size > 1 ? [...chosen].filter((id) => items.get(id)?.kind === 'bus') : []
  const feeder = own ?? above
  return { ...(feeder ? { feeder } : {}), ...(buses.length ? { buses } : {}) }
}

/** The present state of the phases can be seen before anything is moved. */
function PerPhase() {
  const settings = useSettings()
  if (!settings || settings.study === 'per_phase') return null
  return (
    <Button onPress={() => void updateOrTell(settings, { study: 'per_phase' }, 'Solve per phase')}>
      Solve per phase to see the present state
    </Button>
  )
}
