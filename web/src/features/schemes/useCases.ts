/** Two combinations of schemes and conditions, solved beside each other by the service. */
import { useQuery } from '@tanstack/react-query'
import { answer, client } from '../../api/client'
import { keys } from '../../api/queries'
import type { components } from '../../api/schema'
import { useParts } from '../../session/store'

export type Cases = components['schemas']['CasesOut']
type Asked = components['schemas']['CasesIn']

export function useCases(body: Asked, enabled = true) {
  const { project, revision } = useParts('project', 'revision')
  return useQuery({
    queryKey: keys.cases(project?.id, revision, body),
    queryFn: () =>
      answer(
        client.POST('/api/projects/{project_id}/cases', {
          params: { path: { project_id: project?.id ?? '' } },
          body,
        }),
      ),
    enabled: enabled && !!project,
    placeholderData: (last) => last,
    retry: false,
    gcTime: 10_000,
  })
}
