/** One kind of study as a view sees it: its answer, how far it is, how to start and stop it. */
import { useEffect, useMemo } from 'react'
import { useJobs } from '../session/jobs'
import {
  cancelStudy,
  findAgain,
  runStudy,
  type StudyResult,
  studyState,
  useStudies,
} from '../session/studies'

export type { StudyResult, StudyTable } from '../session/studies'

export interface Study {
  readonly result: StudyResult | null
  /** Revision of the network the result is of. */
  readonly revision: number
  /** Where the result can be asked further, and how long it took. */
  readonly address: string | null
  readonly took_s: number
  /** The result is what there is so far, or of what was done before it was cancelled. */
  readonly partial: boolean
  readonly running: {
    readonly fraction: number
    readonly doing: string
    readonly left_s: number | null
  } | null
  readonly problem: string | null
  readonly run: (options: Record<string, unknown>, keep?: string) => Promise<StudyResult | null>
  readonly cancel: () => void
}

/** ``slot``: where the answer is kept, where a view asks for a study beside the one of that name. */
export function useStudy(name: string, slot = name): Study {
  const { job, result, revision, problem, address, took_s, partial } = useStudies((s) => studyState(s, slot))
  const known = useJobs((s) => s.jobs.size > 0)
  useEffect(() => {
    if (known) void findAgain(slot)
  }, [known, slot])
  return useMemo(
    () => ({
      result,
      revision,
      address,
      took_s,
      partial,
      running: job
        ? {
            fraction: job.fraction,
            doing: job.state === 'waiting' ? 'waiting for a worker' : job.doing,
            left_s: job.left_s ?? null,
          }
        : null,
      problem,
      run: (options, keep) => runStudy(name, options, keep, slot),
      cancel: () => cancelStudy(slot),
    }),
    [name, slot, job, result, revision, problem, address, took_s, partial],
  )
}
