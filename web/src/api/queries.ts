import { queryOptions } from '@tanstack/react-query'
import { answer, client } from './client'

/** The one place that spells query keys. */
export const keys = {
  vocabulary: ['vocabulary'] as const,
  projects: (removed: boolean) => ['projects', { removed }] as const,
  journal: (project: string, revision: number) => ['journal', project, revision] as const,
}

export const vocabularyQuery = queryOptions({
  queryKey: keys.vocabulary,
  queryFn: () => answer(client.GET('/api/vocabulary')),
  staleTime: Number.POSITIVE_INFINITY,
})

export const projectsQuery = (removed = false) =>
  queryOptions({
    queryKey: keys.projects(removed),
    queryFn: () => answer(client.GET('/api/projects', { params: { query: { removed } } })),
  })

export const journalQuery = (project: string, revision: number) =>
  queryOptions({
    queryKey: keys.journal(project, revision),
    queryFn: () =>
      answer(client.GET('/api/projects/{project_id}/journal', { params: { path: { project_id: project } } })),
  })
