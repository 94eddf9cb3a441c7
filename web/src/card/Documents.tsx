/** Files and links kept with an element. Files are always downloads. */
import { useRef } from 'react'
import styled from 'styled-components'
import { IconButton, Plain } from '../design/controls'
import type { Item } from '../model/items'
import { attach } from '../session/edits'
import { updateOrTell } from '../session/queue'
import { notify, useBench } from '../session/store'

const List = styled.ul`
  list-style: none; margin: 6px 0 0; padding: 0;
  li { display: flex; align-items: center; gap: 8px; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 30px; }
  a { color: ${(p) => p.theme.accent}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; min-width: 0; flex: 1; }
  .type { color: ${(p) => p.theme.quiet}; font-size: 12px; white-space: nowrap; }
`

interface Attached {
  readonly name: string
  readonly sha256: string
  readonly size: number
  readonly media_type: string
}

const MOST = 16 * 2 ** 20

export function Documents({ item }: { item: Item }) {
  const input = useRef<HTMLInputElement>(null)
  const project = useBench((s) => s.project?.id)
  const files = (item.attachments ?? []) as readonly Attached[]
  const links = (item.links ?? []) as readonly string[]
  const take = async (file: File | undefined) => {
    if (!file) return
    if (file.size > MOST)
      return notify('problem', `${file.name} has ${size(file.size)}; at most 16 MB can be attached.`)
    await attach(item.id, file)
  }
  const drop = (file: Attached) =>
    updateOrTell(
      item,
      { attachments: files.filter((f) => f !== file) },
      `Detach ${file.name} from ${item.name}`,
    )
  return (
    <>
      <List>
        {links.map((l) => (
          <li key={l}>
            <a href={l} target="_blank" rel="noreferrer noopener">
              {l}
            </a>
          </li>
        ))}
        {files.map((f) => (
          <li key={`${f.sha256} ${f.name}`}>
            <a href={`/api/projects/${project}/attachments/${f.sha256}`} download={f.name}>
              {f.name}
            </a>
            <span className="type">
              {f.media_type.split('/')[1]} · {size(f.size)}
            </span>
            <IconButton icon="close" label={`Detach ${f.name}`} onPress={() => void drop(f)} />
          </li>
        ))}
      </List>
      <input
        ref={input}
        type="file"
        hidden
        aria-label="File to attach"
        onChange={(e) => {
          void take(e.currentTarget.files?.[0])
          e.currentTarget.value = ''
        }}
      />
      <Plain onPress={() => input.current?.click()} style={{ marginLeft: -10 }}>
        Attach a file …
      </Plain>
    </>
  )
}

const size = (bytes: number) =>
  bytes < 1024
    ? `${bytes} B`
    : bytes < 2 ** 20
      ? `${Math.round(bytes / 1024)} kB`
      : `${(bytes / 2 ** 20).toFixed(1)} MB`
