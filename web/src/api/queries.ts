import { queryOptions } from '@tanstack/react-query'
import { answer, client } from './client'

/** The one place that spells query keys. */
export const keys = {
  vocabulary: ['vocabulary'] as const,
  projects: (removed: boolean) => ['projects', { removed }] as const,
  journal: (project: string, revision: number) => ['journal', project, revision] as const,
}

const onRevision = <T>(
  what: string,
  project: string,
  revision: number,
  rest: string,
  get: () => Promise<T>,
) =>
  queryOptions({
    queryKey: [what, project, revision, rest] as const,
    queryFn: get,
    staleTime: Number.POSITIVE_INFINITY,
  })

const of = (project_id: string) => ({ path: { project_id } })

/** What can be asked about a network belongs to one revision of it. */
export const aboutQuery = (project: string, revision: number, ident: string) =>
  onRevision('about', project, revision, ident, () =>
    answer(
      client.GET('/api/projects/{project_id}/about/{ident}', {
        params: { path: { project_id: project, ident } },
      }),
    ),
  )

export const supplyQuery = (project: string, revision: number, ident: string) =>
  onRevision('supply', project, revision, ident, () =>
    answer(
      client.GET('/api/projects/{project_id}/supply/{ident}', {
        params: { path: { project_id: project, ident } },
      }),
    ),
  )

export const checksQuery = (project: string, revision: number) =>
  onRevision('checks', project, revision, '', () =>
    answer(client.GET('/api/projects/{project_id}/checks', { params: of(project) })),
  )

/** Feeders and stations; they stay while the wiring does. */
export const feedersQuery = (project: string, wiring: number) =>
  onRevision('feeders', project, wiring, '', () =>
    answer(client.GET('/api/projects/{project_id}/feeders', { params: of(project) })),
  )

/** What the schemes that are on change, where they clash and what does not fit. */
export const layersQuery = (project: string, revision: number) =>
  onRevision('layers', project, revision, '', () =>
    answer(client.GET('/api/projects/{project_id}/layers', { params: of(project) })),
  )

/** Phases that a load, a plant or a lateral can take. */
export const phasesQuery = (project: string, revision: number, ident: string) =>
  onRevision('phases', project, revision, ident, () =>
    answer(
      client.GET('/api/projects/{project_id}/phases/{ident}', {
        params: { path: { project_id: project, ident } },
      }),
    ),
  )

export const profileQuery = (project: string, revision: number, start: string) =>
  onRevision('profile', project, revision, start, () =>
    answer(
      client.GET('/api/projects/{project_id}/profile/{start}', {
        params: { path: { project_id: project, start } },
      }),
    ),
  )

export const typesQuery = (project: string, revision: number, family: string, query: string) =>
  onRevision('types', project, revision, `${family} ${query}`, () =>
    answer(
      client.GET('/api/projects/{project_id}/types', {
        params: { ...of(project), query: { family, query, limit: 300 } },
      }),
    ),
  )

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
