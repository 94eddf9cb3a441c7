/** Studies under way and done, one in each slot, usually one of each kind: they go on whatever the shelf shows. */
import { create } from 'zustand'
import { answer, client, messageOf, TAB } from '../api/client'
import type { components } from '../api/schema'
import { BACKGROUND, cancelJob, isUnderWay, type Job, newestOf, onJob, takeJob, useJobs } from './jobs'
import { notify, useBench } from './store'

export type StudyResult = components['schemas']['StudyResultOut']
export type StudyTable = components['schemas']['TableOut']

export interface StudyState {
  readonly job: Job | null
  readonly result: StudyResult | null
  /** Revision of the network the result is of. */
  readonly revision: number
  readonly problem: string | null
  /** Where the result can be asked further, and how long it took. */
  readonly address: string | null
  readonly took_s: number
  /** The result is what there is so far. */
  readonly partial: boolean
}

const NOTHING: StudyState = {
  job: null,
  result: null,
  revision: -1,
  problem: null,
  address: null,
  took_s: 0,
  partial: false,
}
const PARTIAL_EVERY_MS = 1500
/** What took longer is announced when it has ended. */
const LONG_S = 5

export const useStudies = create<Record<string, StudyState>>(() => ({}))

const put = (slot: string, change: Partial<StudyState>) =>
  useStudies.setState((s) => ({ [slot]: { ...(s[slot] ?? NOTHING), ...change } }))

export const studyState = (all: Record<string, StudyState>, slot: string): StudyState => all[slot] ?? NOTHING

const slotOf = (job: Job) => job.slot || job.study
const waiting = new Map<string, (result: StudyResult | null) => void>()
let partialAt = 0

/** Start a study on the network as it stands; the last one in its slot makes room. */
export async function runStudy(
  study: string,
  options: Record<string, unknown>,
  keep?: string,
  slot = study,
): Promise<StudyResult | null> {
  const { project } = useBench.getState()
  put(slot, { problem: null })
  try {
    const job = await answer(
      client.POST('/api/projects/{project_id}/runs', {
        params: { path: { project_id: project?.id ?? '' } },
        body: { study, options, keep: keep ?? null, note: '', slot, tab: TAB },
      }),
    )
    const ended = new Promise<StudyResult | null>((done) => waiting.set(job.id, done))
    put(slot, { job })
    // Its end may have been told before this answer came.
    const told = useJobs.getState().jobs.get(job.id)
    const now = isUnderWay(job) && told ? told : job
    if (now === job && !isUnderWay(job)) settle(slot, job, job.result ?? null)
    else takeJob(now)
    return await ended
  } catch (error) {
    put(slot, { job: null, problem: messageOf(error) })
    return null
  }
}

/** A slot whose job has ended with a result. */
const answered = (job: Job, result: StudyResult): StudyState => ({
  job: null,
  result,
  revision: job.revision,
  address: `job-${job.id}`,
  took_s: job.took_s,
  partial: job.partial,
  problem: job.problem ?? null,
})

/** A job has ended: take up its result, or why there is none. */
function settle(slot: string, job: Job, result: StudyResult | null) {
  const mine = useStudies.getState()[slot]?.job?.id === job.id
  if (mine && result) put(slot, answered(job, result))
  else if (mine) put(slot, { job: null, problem: job.problem ?? 'The run did not finish.' })
  waiting.get(job.id)?.(mine ? result : null)
  waiting.delete(job.id)
  takeJob(job)
}

async function resultAt(job: Job): Promise<StudyResult> {
  return answer(
    client.GET('/api/projects/{project_id}/results/{address}', {
      params: { path: { project_id: job.project, address: `job-${job.id}` } },
    }),
  )
}

/** Every step of every job comes by here; only those that a slot waits for concern it. */
onJob((job) => {
  const slot = slotOf(job)
  if (useStudies.getState()[slot]?.job?.id !== job.id) return
  if (isUnderWay(job)) {
    put(slot, { job })
    if (job.partial && Date.now() - partialAt > PARTIAL_EVERY_MS) {
      partialAt = Date.now()
      const show = (result: StudyResult) => {
        if (useStudies.getState()[slot]?.job?.id === job.id)
          put(slot, { result, revision: job.revision, address: `job-${job.id}`, partial: true })
      }
      // Where it can't be had now, the next one can.
      resultAt(job).then(show, () => undefined)
    }
    return
  }
  // Asked once, whoever hears of it first.
  put(slot, { job })
  if (ending.has(job.id)) return
  ending.add(job.id)
  const found = job.has_result ? resultAt(job) : Promise.resolve(null)
  void found
    .catch((error) => {
      put(slot, { problem: messageOf(error) })
      return null
    })
    .then((result) => {
      ending.delete(job.id)
      settle(slot, job, result)
    })
  const { shelf, shelfOpen } = useBench.getState()
  const seen = slot === BACKGROUND || (shelfOpen && (shelf === slot || shelf === `study ${job.study}`))
  if (job.took_s > LONG_S && job.state === 'finished' && !seen)
    notify('news', `${job.label}: done after ${Math.round(job.took_s)} s.`)
})
const ending = new Set<string>()

/** What this slot had before the page was loaded, or on another tab: its newest job, under way or done. */
export async function findAgain(slot: string) {
  if (useStudies.getState()[slot]) return
  const job = newestOf(slot)
  if (job) await showJob(job)
}

/** Show a job in the slot it belongs to. */
export async function showJob(job: Job) {
  const slot = slotOf(job)
  if (isUnderWay(job)) return put(slot, { job, problem: null })
  if (!job.has_result) return put(slot, { job: null, problem: job.problem ?? null })
  put(slot, { job: null })
  try {
    put(slot, answered(job, await resultAt(job)))
  } catch (error) {
    put(slot, { problem: messageOf(error) })
  }
}

/** Show the answer of one slot in another as well. */
export function showAlso(from: string, to: string) {
  const found = useStudies.getState()[from]
  if (found?.result) put(to, { ...found, job: null })
}

export function cancelStudy(slot: string) {
  const job = useStudies.getState()[slot]?.job
  if (job) void cancelJob(job.id)
}

/** Let go of everything: another project is opened. What is under way there goes on in the service. */
export const forgetStudies = () => useStudies.setState({}, true)
