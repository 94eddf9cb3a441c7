/** Running a study: at once where it is quick, else with progress and cancel. */
import { useEffect, useRef, useState } from 'react'
import { answer, client, messageOf } from '../../api/client'
import type { components } from '../../api/schema'
import { useBench } from '../../bench/store'

type Job = components['schemas']['JobOut']
export type StudyResult = components['schemas']['StudyResultOut']
export type StudyTable = components['schemas']['TableOut']

const POLL_MS = 350

export interface Study {
  readonly result: StudyResult | null
  /** Revision of the network the result is of. */
  readonly revision: number
  readonly running: { readonly fraction: number; readonly doing: string } | null
  readonly problem: string | null
  readonly run: (
    study: string,
    options: Record<string, unknown>,
    keep?: string,
  ) => Promise<StudyResult | null>
  readonly cancel: () => void
}

export function useStudy(): Study {
  const [job, setJob] = useState<Job | null>(null)
  const [done, setDone] = useState<{ result: StudyResult; revision: number } | null>(null)
  const [problem, setProblem] = useState<string | null>(null)
  const current = useRef<string | null>(null)
  useEffect(
    () => () => {
      current.current = null
    },
    [],
  )

  const follow = async (first: Job, revision: number): Promise<StudyResult | null> => {
    let now = first
    current.current = now.id
    while (now.state === 'waiting' || now.state === 'running') {
      setJob(now)
      await new Promise((r) => setTimeout(r, POLL_MS))
      if (current.current !== first.id) return null
      now = await answer(client.GET('/api/jobs/{job_id}', { params: { path: { job_id: first.id } } }))
    }
    setJob(null)
    if (now.state === 'finished' && now.result) {
      setDone({ result: now.result, revision })
      return now.result
    }
    setProblem(now.problem ?? 'The run did not finish.')
    return null
  }

  const run: Study['run'] = async (study, options, keep) => {
    const { project, revision } = useBench.getState()
    setProblem(null)
    try {
      const started = await answer(
        client.POST('/api/projects/{project_id}/runs', {
          params: { path: { project_id: project?.id ?? '' } },
          body: { study, options, keep: keep ?? null, note: '' },
        }),
      )
      return await follow(started, revision)
    } catch (error) {
      setJob(null)
      setProblem(messageOf(error))
      return null
    }
  }
  const cancel = () => {
    if (job) void client.DELETE('/api/jobs/{job_id}', { params: { path: { job_id: job.id } } })
  }
  return {
    result: done?.result ?? null,
    revision: done?.revision ?? -1,
    running: job ? { fraction: job.fraction, doing: job.doing } : null,
    problem,
    run,
    cancel,
  }
}
