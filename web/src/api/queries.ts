import { queryOptions } from '@tanstack/react-query'
import { answer, client, TAB } from './client'

/** The one place that spells query keys. */
export const keys = {
  vocabulary: ['vocabulary'] as const,
  allProjects: ['projects'] as const,
  papers: ['papers'] as const,
  runs: (project: string | undefined) => ['runs', project] as const,
  cases: (project: string | undefined, revision: number, body: unknown) =>
    ['cases', project, revision, body] as const,
  backdrop: (project: string | undefined, digest: string | undefined) =>
    ['backdrop', project, digest] as const,
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

/** What can be asked about a result, under its address. ``token``: another one whenever the result is another. */
const onResult = <T>(
  what: string,
  project: string,
  address: string,
  token: string,
  rest: string,
  get: () => Promise<T>,
) =>
  queryOptions({
    queryKey: [what, project, address, token, rest] as const,
    queryFn: get,
    gcTime: 30_000,
    retry: false,
  })

const at = (project_id: string, address: string) => ({ path: { project_id, address } })

export const siftQuery = (
  project: string,
  address: string,
  token: string,
  table: string,
  text: string,
  pinned: string | null,
) =>
  onResult('sift', project, address, token, JSON.stringify([table, text, pinned]), () =>
    answer(
      client.POST('/api/projects/{project_id}/results/{address}/sift', {
        params: { ...at(project, address), query: { tab: TAB } },
        body: { table, text, pinned },
      }),
    ),
  )

export const siftHelpQuery = (project: string, address: string, table: string) =>
  onResult('sift help', project, address, '', table, () =>
    answer(
      client.GET('/api/projects/{project_id}/results/{address}/sift', {
        params: { ...at(project, address), query: { table, tab: TAB } },
      }),
    ),
  )

export const workingsQuery = (project: string, address: string, token: string, ident: string) =>
  onResult('workings', project, address, token, ident, () =>
    answer(
      client.GET('/api/projects/{project_id}/results/{address}/workings/{ident}', {
        params: { path: { project_id: project, address, ident }, query: { tab: TAB } },
      }),
    ),
  )

export const causeQuery = (
  project: string,
  address: string,
  token: string,
  ident: string,
  quantity: string,
) =>
  onResult('cause', project, address, token, `${ident} ${quantity}`, () =>
    answer(
      client.GET('/api/projects/{project_id}/results/{address}/cause/{ident}', {
        params: { path: { project_id: project, address, ident }, query: { quantity, tab: TAB } },
      }),
    ),
  )

export const summariesQuery = (project: string, address: string, token: string) =>
  onResult('summaries', project, address, token, '', () =>
    answer(
      client.GET('/api/projects/{project_id}/results/{address}/summaries', {
        params: { ...at(project, address), query: { tab: TAB } },
      }),
    ),
  )

export const compareQuery = (
  project: string,
  before: string,
  after: string,
  token: string,
  table: string,
  quantity: string,
) =>
  onResult('compare', project, `${before} ${after}`, token, `${table} ${quantity}`, () =>
    answer(
      client.POST('/api/projects/{project_id}/compare', {
        params: of(project),
        body: { before, after, table, quantity, tab: TAB },
      }),
    ),
  )

/** Whether a query is of this project's runs, of whatever count. */
export const isRunsOf = (key: readonly unknown[], project: string | undefined) =>
  key[0] === 'runs' && key[1] === project

export const runsQuery = (project: string, kept: number) =>
  queryOptions({
    queryKey: ['runs', project, kept] as const,
    queryFn: () => answer(client.GET('/api/projects/{project_id}/runs', { params: of(project) })),
  })

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

export const spectrumQuery = (project: string, revision: number, name: string) =>
  onRevision('spectrum', project, revision, name, () =>
    answer(
      client.GET('/api/projects/{project_id}/spectrum', { params: { ...of(project), query: { name } } }),
    ),
  )

export const vocabularyQuery = queryOptions({
  queryKey: keys.vocabulary,
  queryFn: () => answer(client.GET('/api/vocabulary')),
  staleTime: Number.POSITIVE_INFINITY,
})

export const studiesQuery = queryOptions({
  queryKey: ['studies'] as const,
  queryFn: () => answer(client.GET('/api/studies')),
  staleTime: Number.POSITIVE_INFINITY,
})

/** A job with its log. */
export const jobQuery = (job: string) =>
  queryOptions({
    queryKey: ['job', job] as const,
    queryFn: () => answer(client.GET('/api/jobs/{job_id}', { params: { path: { job_id: job } } })),
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
