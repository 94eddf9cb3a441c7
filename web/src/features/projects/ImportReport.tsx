/** What an import read, left out, assumed and ignored, line by line. */
import styled from 'styled-components'
import type { Imported } from '../../api/client'
import { Dialog, Primary } from '../../design/controls'
import { font } from '../../design/tokens'

const Lines = styled.ul`
  list-style: none; margin: 2px 0 12px; padding: 0; max-height: 30vh; overflow: auto;
  li { display: grid; grid-template-columns: 66px 1fr; padding: 2px 0; }
  span { font: 400 12px ${font.mono}; color: ${(p) => p.theme.quiet}; }
`
const Head = styled.h3`font-size: 13px; font-weight: 500;`

export function ImportReport({ imported, onClose }: { imported: Imported | null; onClose: () => void }) {
  const report = imported?.report
  const parts = [
    ['Left out: not allowed as it stands', report?.left_out],
    ['Read', report?.read],
    ['Assumed', report?.assumed],
    ['Ignored', report?.ignored],
  ] as const
  return (
    <Dialog label="Import report" isOpen={imported !== null} onClose={onClose} width={560}>
      <h2>{imported?.project.name} is open</h2>
      {parts.map(([title, remarks]) =>
        remarks?.length ? (
          <section key={title}>
            <Head>{title}</Head>
            <Lines>
              {remarks.map((r) => (
                <li key={`${r.line} ${r.text}`}>
                  <span>{r.line ? `line ${r.line}` : ''}</span>
                  {r.text}
                </li>
              ))}
            </Lines>
          </section>
        ) : null,
      )}
      <Primary onPress={onClose} autoFocus>
        Go to the network
      </Primary>
    </Dialog>
  )
}
