/** Studies under way and done, one in each slot, usually one of each kind: they go on whatever the shelf shows. */
import { create } from 'zustand'
import { answer, client, messageOf } from '../api/client'
import type { components } from '../api/schema'
import { useBench } from './store'

type Job = components['schemas']['JobOut']
export type StudyResult = components['schemas']['StudyResultOut']
export type StudyTable = components['schemas']['TableOut']

const POLL_MS = 350

export interface StudyState {
  readonly job: Job | null
  readonly result: StudyResult | null
  /** Revision of the network the result is of. */
  readonly revision: number
  readonly problem: string | null
  /** Where the result can be asked further, and how long it took. */
  readonly address: string | null
  readonly took_s: number
}

const NOTHING: StudyState = { job: null, result: null, revision: -1, problem: null, address: null, took_s: 0 }

export const useStudies = create<Record<string, StudyState>>(() => ({}))

const put = (study: string, change: Partial<StudyState>) =>
  useStudies.setState((s) => ({ [study]: { ...(s[study] ?? NOTHING), ...change } }))

export const studyState = (all: Record<string, StudyState>, study: string): StudyState =>
  all[study] ?? NOTHING

/** Start a study on the network as it stands; the last one in its slot makes room. */
export async function runStudy(
  study: string,
  options: Record<string, unknown>,
  keep?: string,
  slot = study,
): Promise<StudyResult | null> {
  const { project, revision } = useBench.getState()
  put(slot, { problem: null })
  try {
    const started = await answer(
      client.POST('/api/projects/{project_id}/runs', {
        params: { path: { project_id: project?.id ?? '' } },
        body: { study, options, keep: keep ?? null, note: '' },
      }),
    )
    return await follow(slot, started, revision)
  } catch (error) {
    put(slot, { job: null, problem: messageOf(error) })
    return null
  }
}

async function follow(study: string, first: Job, revision: number): Promise<StudyResult | null> {
  let now = first
  put(study, { job: now })
  while (now.state === 'waiting' || now.state === 'running') {
    await new Promise((r) => setTimeout(r, POLL_MS))
    // Another one of its kind was started, or another project opened: this one is nobody's any more.
    if (useStudies.getState()[study]?.job?.id !== first.id) return null
    now = await answer(client.GET('/api/jobs/{job_id}', { params: { path: { job_id: first.id } } }))
    if (useStudies.getState()[study]?.job?.id !== first.id) return null
    put(study, { job: now })
  }
  put(study, { job: null })
  if (now.state === 'finished' && now.result) {
    put(study, { result: now.result, revision, address: `job-${now.id}`, took_s: now.took_s })
    return now.result
  }
  put(study, { problem: now.problem ?? 'The run did not finish.' })
  return null
}

export function cancelStudy(study: string) {
  const job = useStudies.getState()[study]?.job
  if (job) void client.DELETE('/api/jobs/{job_id}', { params: { path: { job_id: job.id } } })
}

/** Let go of everything: another project is opened. What is under way there goes on in the service. */
export const forgetStudies = () => useStudies.setState({}, true)
