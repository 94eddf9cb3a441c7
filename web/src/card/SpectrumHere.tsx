/** The spectrum that an item is or names: bars of its orders, and the waveform they make. */
import { useQuery } from '@tanstack/react-query'
import styled from 'styled-components'
import { spectrumQuery } from '../api/queries'
import type { Item } from '../model/items'
import { useParts } from '../session/store'
import { FigurePlot } from '../shelf/FigurePlot'

const Plot = styled.div`height: 120px; margin-top: 10px;`

/** What an item takes its orders from: a spectrum of one's own is one. */
export const spectrumOf = (item: Item): string | null => {
  if (item.kind === 'own_type') return item.family === 'spectrum' ? item.id : null
  const named = item.spectrum ?? item.background
  return typeof named === 'string' ? named : null
}

export function SpectrumHere({ name }: { name: string }) {
  const { project, revision } = useParts('project', 'revision')
  const { data } = useQuery({
    ...spectrumQuery(project?.id ?? '', revision, name),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  return (
    <>
      {(data ?? []).map((f) => (
        <Plot key={f.name}>
          <FigurePlot figure={f} />
        </Plot>
      ))}
    </>
  )
}
