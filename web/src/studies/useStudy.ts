/** One kind of study as a view sees it: its answer, how far it is, how to start and stop it. */
import { useMemo } from 'react'
import { cancelStudy, runStudy, type StudyResult, studyState, useStudies } from '../session/studies'

export type { StudyResult, StudyTable } from '../session/studies'

export interface Study {
  readonly result: StudyResult | null
  /** Revision of the network the result is of. */
  readonly revision: number
  /** Where the result can be asked further, and how long it took. */
  readonly address: string | null
  readonly took_s: number
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
  const { job, result, revision, problem, address, took_s } = useStudies((s) => studyState(s, slot))
  return useMemo(
    () => ({
      result,
      revision,
      address,
      took_s,
      running: job ? { fraction: job.fraction, doing: job.doing, left_s: job.left_s ?? null } : null,
      problem,
      run: (options, keep) => runStudy(name, options, keep, slot),
      cancel: () => cancelStudy(slot),
    }),
    [name, slot, job, result, revision, problem, address, took_s],
  )
}
