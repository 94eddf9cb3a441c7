/** Studies that have no view of their own get a page from what they declare: a new study appears by itself. */
import { useQuery } from '@tanstack/react-query'
import { useEffect } from 'react'
import { studiesQuery } from '../api/queries'
import { later } from '../shelf/later'
import { allViews, register } from '../shelf/registry'

/** Where the pages of a desk begin among its other views. */
const ORDER = { studies: 10, limits: 20, reliability: 10, optimise: 30, decide: 60, plan: 10 } as const

export function useStudyPages() {
  const { data } = useQuery(studiesQuery)
  useEffect(() => {
    if (!data) return
    const own = new Set(allViews().flatMap((v) => v.study ?? []))
    register(
      data
        .filter((s) => !s.live && !own.has(s.name))
        .map((s, n) => ({
          id: `study ${s.name}`,
          label: s.label,
          desk: s.desk,
          order: ORDER[s.desk] + n,
          study: s.name,
          Body: later(async () => {
            const { StudyPage } = await import('./StudyPage')
            return () => <StudyPage study={s} />
          }),
        })),
    )
  }, [data])
}
