/** A picture of the sheet with its results, legend and title: SVG, PNG, or PDF on paper. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import { answer, client } from '../../api/client'
import { keys } from '../../api/queries'
import { Button, Dialog, Pick, Primary, TextInput } from '../../design/controls'
import { dark, light } from '../../design/tokens'
import { useBench } from '../../session/store'
import { savePicture } from './make'

const Rows = styled.div`
  display: grid; gap: 8px; .row { display: grid; grid-template-columns: 130px minmax(0, 1fr); align-items: center; min-height: 30px; }
  .row > span:first-child { color: ${(p) => p.theme.quiet}; } .acts { display: flex; gap: 8px; margin-top: 8px; justify-content: end; }
  p { color: ${(p) => p.theme.quiet}; font-size: 12px; }
`
const FORMS = [
  { id: 'pdf', label: 'PDF, vectors on paper' },
  { id: 'svg', label: 'SVG, vectors' },
  { id: 'png', label: 'PNG, dots' },
]
const DETAIL = [
  { id: '1', label: 'everything with its labels' },
  { id: '0.6', label: 'overview, fewer labels' },
  { id: '1.5', label: 'large, most labels' },
]
const DOTS = ['96', '150', '300', '600'].map((id) => ({ id, label: `${id} dots per inch` }))
const SCALES = [
  { id: 'fit', label: 'one page' },
  { id: '0.1', label: 'several pages, small (0.1 mm a unit)' },
  { id: '0.18', label: 'several pages, as on the screen at 70 %' },
  { id: '0.26', label: 'several pages, as on the screen' },
]

export function PictureDialog() {
  const open = useBench((s) => s.dialog === 'picture')
  const project = useBench((s) => s.project?.name ?? '')
  const [form, setForm] = useState('pdf')
  const [title, setTitle] = useState<string | null>(null)
  const [detail, setDetail] = useState('0.6')
  const [paper, setPaper] = useState('A3')
  const [scale, setScale] = useState('fit')
  const [dots, setDots] = useState('300')
  const [inDark, setDark] = useState('light')
  const [busy, setBusy] = useState(false)
  const { data: papers } = useQuery({
    queryKey: keys.papers,
    queryFn: () => answer(client.GET('/api/papers')),
    staleTime: Number.POSITIVE_INFINITY,
    enabled: open,
  })
  const close = () => useBench.setState({ dialog: null })
  const go = async () => {
    setBusy(true)
    const wish = { title: title ?? project, zoom: Number(detail), palette: inDark === 'dark' ? dark : light }
    const mm = scale === 'fit' ? null : Number(scale)
    await savePicture(wish, form as 'pdf', { paper, mm, dots: Number(dots) })
    setBusy(false)
    close()
  }
  return (
    <Dialog label="Picture of the sheet" isOpen={open} onClose={close} width={480}>
      <h2>Picture of the sheet</h2>
      <Rows>
        <Line label="As">
          <Pick label="As" hideLabel value={form} choices={FORMS} onChange={setForm} />
        </Line>
        <Line label="Title">
          <TextInput
            aria-label="Title"
            value={title ?? project}
            onChange={(e) => setTitle(e.currentTarget.value)}
          />
        </Line>
        <Line label="Detail">
          <Pick label="Detail" hideLabel value={detail} choices={DETAIL} onChange={setDetail} />
        </Line>
        {form === 'pdf' && (
          <>
            <Line label="Paper">
              <Pick
                label="Paper"
                hideLabel
                value={paper}
                choices={Object.keys(papers ?? { A3: 0 }).map((id) => ({ id, label: id }))}
                onChange={setPaper}
              />
            </Line>
            <Line label="On">
              <Pick label="On" hideLabel value={scale} choices={SCALES} onChange={setScale} />
            </Line>
          </>
        )}
        {form === 'png' && (
          <Line label="Resolution">
            <Pick label="Resolution" hideLabel value={dots} choices={DOTS} onChange={setDots} />
          </Line>
        )}
        <Line label="Ground">
          <Pick
            label="Ground"
            hideLabel
            value={inDark}
            choices={[
              { id: 'light', label: 'light' },
              { id: 'dark', label: 'dark' },
            ]}
            onChange={setDark}
          />
        </Line>
        <p>Lens, labels, units and arrangement are as they are on the sheet now.</p>
        <div className="acts">
          <Button onPress={close}>Cancel</Button>
          <Primary onPress={() => void go()} isDisabled={busy}>
            {busy ? 'Drawing …' : 'Save'}
          </Primary>
        </div>
      </Rows>
    </Dialog>
  )
}

const Line = ({ label, children }: { label: string; children: React.ReactNode }) => (
  <div className="row">
    <span>{label}</span>
    <span>{children}</span>
  </div>
)
