/** Studies waiting, under way and done, as the service tells of them; found again after a reload. */
import { create } from 'zustand'
import { answer, client, messageOf, TAB } from '../api/client'
import type { components } from '../api/schema'
import { notify, useBench } from './store'

export type Job = components['schemas']['JobLineOut']

export const useJobs = create<{ readonly jobs: ReadonlyMap<string, Job> }>(() => ({ jobs: new Map() }))

export const isUnderWay = (job: Job) =>
  job.state === 'waiting' || job.state === 'running' || job.state === 'joining'

/** What goes on by itself after every edit stands on no list. */
export const BACKGROUND = 'security'
const inBackground = (job: Job) => job.slot === BACKGROUND

type Listener = (job: Job) => void
const listeners: Listener[] = []
/** Be told of every step of every job of the open project. */
export const onJob = (listener: Listener) => listeners.push(listener)

/** A job stands otherwise than before; what is older than what is known counts for nothing. */
export function takeJob(job: Job) {
  if (job.project !== useBench.getState().project?.id) return
  const known = useJobs.getState().jobs.get(job.id)
  if (known && !isUnderWay(known) && isUnderWay(job)) return
  if (!inBackground(job)) useJobs.setState((s) => ({ jobs: new Map(s.jobs).set(job.id, job) }))
  for (const listener of listeners) listener(job)
}

/** Ask for all of them: when a project is opened, and when its event stream was broken. */
export async function loadJobs(project: string) {
  try {
    const found = await answer(
      client.GET('/api/projects/{project_id}/jobs', { params: { path: { project_id: project } } }),
    )
    if (project !== useBench.getState().project?.id) return
    useJobs.setState({ jobs: new Map(found.filter((j) => !inBackground(j)).map((j) => [j.id, j])) })
    for (const job of found) for (const listener of listeners) listener(job)
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

export const forgetJobs = () => useJobs.setState({ jobs: new Map() })

/** The newest first. */
export const inOrder = (jobs: ReadonlyMap<string, Job>) =>
  [...jobs.values()].sort((a, b) => (a.at < b.at ? 1 : -1))

/** The newest job that a view of this tab asked for. */
export const newestOf = (slot: string) =>
  inOrder(useJobs.getState().jobs).find((j) => j.tab === TAB && (j.slot || j.study) === slot)

async function act(ask: () => Promise<Job>) {
  try {
    takeJob(await ask())
  } catch (error) {
    notify('problem', messageOf(error))
  }
}

const of = (id: string) => ({ params: { path: { job_id: id } } })

export const cancelJob = (id: string) => act(() => answer(client.DELETE('/api/jobs/{job_id}', of(id))))
/** Start it again on the network as it stands. */
export const jobAgain = (id: string) =>
  act(() =>
    answer(
      client.POST('/api/jobs/{job_id}/again', { params: { path: { job_id: id }, query: { tab: TAB } } }),
    ),
  )
/** Let a job that the cluster lost go on on the service's own machine. */
export const jobGoesOn = (id: string) => act(() => answer(client.POST('/api/jobs/{job_id}/go-on', of(id))))

export async function forgetJob(id: string) {
  try {
    await client.POST('/api/jobs/{job_id}/forget', of(id))
    useJobs.setState((s) => {
      const jobs = new Map(s.jobs)
      jobs.delete(id)
      return { jobs }
    })
  } catch (error) {
    notify('problem', messageOf(error))
  }
}
