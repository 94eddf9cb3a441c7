/** One kind of study as a view sees it: its answer, how far it is, how to start and stop it. */
import { useMemo } from 'react'
import { cancelStudy, runStudy, type StudyResult, studyState, useStudies } from '../session/studies'

export type { StudyResult, StudyTable } from '../session/studies'

export interface Study {
  readonly result: StudyResult | null
  /** Revision of the network the result is of. */
  readonly revision: number
  readonly running: { readonly fraction: number; readonly doing: string } | null
  readonly problem: string | null
  readonly run: (options: Record<string, unknown>, keep?: string) => Promise<StudyResult | null>
  readonly cancel: () => void
}

/** ``slot``: where the answer is kept, where a view asks for a study beside the one of that name. */
export function useStudy(name: string, slot = name): Study {
  const { job, result, revision, problem } = useStudies((s) => studyState(s, slot))
  return useMemo(
    () => ({
      result,
      revision,
      running: job ? { fraction: job.fraction, doing: job.doing } : null,
      problem,
      run: (options, keep) => runStudy(name, options, keep, slot),
      cancel: () => cancelStudy(slot),
    }),
    [name, slot, job, result, revision, problem],
  )
}
