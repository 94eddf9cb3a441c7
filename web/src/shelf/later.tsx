/** Views that are opened later come later: the first picture stands sooner. */
import { type ComponentType, lazy, Suspense } from 'react'
import styled from 'styled-components'

const Waiting = styled.p`padding: 14px 16px; color: ${(p) => p.theme.quiet};`

export function later(load: () => Promise<ComponentType>): ComponentType {
  const Part = lazy(async () => ({ default: await load() }))
  return () => (
    <Suspense fallback={<Waiting>…</Waiting>}>
      <Part />
    </Suspense>
  )
}
