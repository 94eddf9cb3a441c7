/** The model check of the network as it stands, asked for once it has stopped changing. */
import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import type { Check } from '../../api/client'
import { checksQuery } from '../../api/queries'
import { useBench } from '../../session/store'

const QUIET_MS = 400
const NONE: readonly Check[] = []

/** A number once it has stopped changing: the model check need not run between two steps of a slider. */
function useQuiet(value: number): number {
  const [quiet, setQuiet] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setQuiet(value), QUIET_MS)
    return () => clearTimeout(timer)
  }, [value])
  return quiet
}

export function useChecks(): readonly Check[] {
  const project = useBench((s) => s.project?.id)
  const settled = useQuiet(useBench((s) => s.revision))
  const { data } = useQuery({
    ...checksQuery(project ?? '', settled),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  return data ?? NONE
}
