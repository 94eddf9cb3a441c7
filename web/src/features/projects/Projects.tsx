/** All projects: open, make, import, restore. Also what stands there when there is none. */
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import styled from 'styled-components'
import { type Imported, messageOf, type Project } from '../../api/client'
import { keys, projectsQuery } from '../../api/queries'
import { Button, Dialog, Plain, Primary, TextInput } from '../../design/controls'
import { chooseFile, createProject, importFile, restoreProject } from './actions'

const Page = styled.main`max-width: 760px; margin: 0 auto; padding: 8vh 24px; height: 100%; overflow: auto;
  h1 { font-size: 24px; font-weight: 600; } > p { color: ${(p) => p.theme.quiet}; margin: 4px 0 24px; }
  h2 { font-size: 14px; font-weight: 500; margin: 28px 0 6px; }
`
const Row = styled.div`display: flex; gap: 8px; margin-bottom: 20px;`
const List = styled.ul`list-style: none; margin: 0; padding: 0; border-top: 1px solid ${(p) => p.theme.rule};
  li { display: flex; align-items: center; border-bottom: 1px solid ${(p) => p.theme.rule}; min-height: 42px; gap: 10px; }
  .grow { flex: 1; } small { color: ${(p) => p.theme.quiet}; }
`
const Open = styled.button`
  display: flex; justify-content: space-between; flex: 1; padding: 11px 8px; border: none; background: transparent; text-align: left; cursor: pointer;
  &:hover { background: ${(p) => p.theme.accentWash}; } b { font-weight: 500; }
  small { color: ${(p) => p.theme.quiet}; }
`
const Problem = styled.p`color: ${(p) => p.theme.breach}; margin-bottom: 12px;`

const when = (iso: string) =>
  new Date(iso).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' })

interface Props {
  readonly onOpen: (id: string) => void
  readonly onImported: (imported: Imported) => void
}

export function Projects({ onOpen, onImported }: Props) {
  const projects = useQuery(projectsQuery())
  const removed = useQuery(projectsQuery(true))
  const cache = useQueryClient()
  const [problem, setProblem] = useState<string | null>(null)
  const [naming, setNaming] = useState(false)
  const attempt = async (work: () => Promise<void>) => {
    setProblem(null)
    try {
      await work()
      await cache.invalidateQueries({ queryKey: keys.allProjects })
    } catch (error) {
      setProblem(messageOf(error))
    }
  }
  const openFile = () =>
    attempt(async () => {
      const file = await chooseFile()
      if (file) onImported(await importFile(file))
    })
  return (
    <Page>
      <h1>Vast Mesh</h1>
      <p>Model a network, see it solved while you work, decide what to build.</p>
      <Row>
        <Primary onPress={() => setNaming(true)}>New project</Primary>
        <Button onPress={openFile}>Open a network file …</Button>
      </Row>
      {problem && <Problem role="alert">{problem}</Problem>}
      {projects.isError && <Problem role="alert">{messageOf(projects.error)}</Problem>}
      {projects.data?.length === 0 && (
        <p>
          No projects yet. Start a new one, or open a Vast Mesh document or an IEEE Common Data Format file.
        </p>
      )}
      <List>
        {projects.data?.map((p) => (
          <li key={p.id}>
            <Open type="button" onClick={() => onOpen(p.id)}>
              <b>{p.name}</b>
              <small>changed {when(p.modified_at)}</small>
            </Open>
          </li>
        ))}
      </List>
      <Removed
        projects={removed.data ?? []}
        onRestore={(p) => attempt(async () => void (await restoreProject(p)))}
      />
      <NewProject
        isOpen={naming}
        onClose={() => setNaming(false)}
        onCreate={(name) => attempt(async () => onOpen((await createProject(name)).id))}
      />
    </Page>
  )
}

function Removed({
  projects,
  onRestore,
}: {
  projects: readonly Project[]
  onRestore: (project: Project) => void
}) {
  if (!projects.length) return null
  return (
    <>
      <h2>Removed</h2>
      <List>
        {projects.map((p) => (
          <li key={p.id}>
            <span className="grow">{p.name}</span>
            <small>removed {p.removed_at ? when(p.removed_at) : ''}</small>
            <Plain onPress={() => onRestore(p)}>Restore</Plain>
          </li>
        ))}
      </List>
    </>
  )
}

function NewProject(props: { isOpen: boolean; onClose: () => void; onCreate: (name: string) => void }) {
  return (
    <NameDialog
      title="New project"
      hint="It starts with one supply point to grow from."
      word="Create"
      initial=""
      {...props}
      onName={props.onCreate}
    />
  )
}

const Hint = styled.p`color: ${(p) => p.theme.quiet}; margin: 0 0 8px;`
const Foot = styled.div`display: flex; justify-content: flex-end; gap: 8px; margin-top: 14px;`

export function NameDialog(props: {
  title: string
  hint?: string
  word: string
  initial: string
  isOpen: boolean
  onClose: () => void
  onName: (name: string) => void
}) {
  return (
    <Dialog label={props.title} isOpen={props.isOpen} onClose={props.onClose}>
      <form
        onSubmit={(e) => {
          e.preventDefault()
          const name = String(new FormData(e.currentTarget).get('name') ?? '').trim()
          if (!name) return
          props.onClose()
          props.onName(name)
        }}
      >
        <h2>{props.title}</h2>
        {props.hint && <Hint>{props.hint}</Hint>}
        <TextInput
          name="name"
          aria-label="Name"
          autoFocus
          required
          maxLength={120}
          defaultValue={props.initial}
        />
        <Foot>
          <Button onPress={props.onClose}>Cancel</Button>
          <Primary type="submit">{props.word}</Primary>
        </Foot>
      </form>
    </Dialog>
  )
}
