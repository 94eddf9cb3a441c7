/** The outages of the model, worked out again in the background after every edit. */
import { useEffect } from 'react'
import { BACKGROUND, forgetJob } from './jobs'
import { useBench, useSettings } from './store'
import { cancelStudy, runStudy, type StudyState, studyState, useStudies } from './studies'

/** How long nothing has to happen before it begins, and after how long it is given up until somebody asks. */
const QUIET_MS = 900
const LONG_MS = 6000
/** The first one also makes a worker ready. */
const FIRST_MS = 60_000
const KINDS = new Set(['outage', 'outage_rule'])

const tooLong = new Set<string>()
let last: string | null = null

async function check(project: string) {
  const give = setTimeout(
    () => {
      tooLong.add(project)
      cancelStudy(BACKGROUND)
    },
    last ? LONG_MS : FIRST_MS,
  )
  await runStudy('outages', {}, undefined, BACKGROUND)
  clearTimeout(give)
  const { address } = studyState(useStudies.getState(), BACKGROUND)
  const job = address?.replace(/^job-/, '') ?? null
  // Only the newest answer is of use; the page of the study may still show one.
  const shown = studyState(useStudies.getState(), 'outages').address
  if (last && last !== job && shown !== `job-${last}`) void forgetJob(last)
  last = job
}

/** Ask once more, however long it takes. */
export function checkNow() {
  void runStudy('outages', {}, undefined, BACKGROUND)
}

export type Security = 'none' | 'off' | 'long' | 'stale' | 'here'

/** Whether there is anything to be said of outages, and what there is. Call from one place alone: it starts the work. */
export function useSecurity(): { readonly at: Security; readonly work: StudyState } {
  const settings = useSettings()
  const project = useBench((s) => s.project?.id ?? '')
  const revision = useBench((s) => s.revision)
  const still = useBench((s) => s.busy === 0 && !s.trying && !s.looking && !s.failed)
  const any = useBench((s) => {
    for (const i of s.items.values()) if (KINDS.has(i.kind) && i.counts !== false) return true
    return false
  })
  const work = useStudies((s) => studyState(s, BACKGROUND))
  const wanted = any && settings?.watch_outages !== false
  const fresh = work.result !== null && work.revision === revision && !work.partial
  const long = tooLong.has(project)
  // biome-ignore lint/correctness/useExhaustiveDependencies: an edit begins it anew, its own progress does not
  useEffect(() => {
    if (!wanted || !still || long || fresh) return
    const begin = setTimeout(() => {
      if (studyState(useStudies.getState(), BACKGROUND).job) cancelStudy(BACKGROUND)
      void check(project)
    }, QUIET_MS)
    return () => clearTimeout(begin)
  }, [wanted, still, project, revision, long])
  if (!any) return { at: 'none', work }
  if (!wanted) return { at: 'off', work }
  if (fresh) return { at: 'here', work }
  return { at: long && !work.job ? 'long' : 'stale', work }
}
