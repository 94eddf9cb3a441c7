/** Which other phases something can be connected to, as it stands. */
import { useQuery } from '@tanstack/react-query'
import { phasesQuery } from '../api/queries'
import type { Item } from '../model/items'
import { useParts } from '../session/store'

/** Null where there is no choice: of a bus, of what has all phases of its bus, or while it is not known. */
export function usePhaseChoices(item: Item | undefined) {
  const { project, revision } = useParts('project', 'revision')
  const { data } = useQuery({
    ...phasesQuery(project?.id ?? '', revision, item?.id ?? ''),
    enabled: !!project && !!item && item.kind !== 'bus',
    retry: false,
    placeholderData: (last) => (last?.ident === item?.id ? last : undefined),
  })
  if (!data?.unit || data.choices.length < 2) return null
  return { ...data, unit: data.unit, choices: [...data.choices].sort() }
}
