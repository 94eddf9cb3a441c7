/** Which project is open: its id stands in the address, so that a reload and a link lead back to it. */
import { useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useState } from 'react'
import styled from 'styled-components'
import { answer, client, type Imported, messageOf } from './api/client'
import { keys } from './api/queries'
import { Bench } from './Bench'
import { Button } from './design/controls'
import { ImportReport } from './features/projects/ImportReport'
import { Projects } from './features/projects/Projects'
import { close, open } from './session/queue'
import { useBench } from './session/store'

const Middle = styled.main`
  height: 100%; display: grid; place-content: center; justify-items: center; gap: 14px; text-align: center; color: ${(p) => p.theme.quiet};
`

type Place = { at: 'start' } | { at: 'projects' } | { at: 'project'; id: string }

const fromAddress = (): Place => {
  const id = location.pathname.match(/^\/p\/([\w-]+)/)?.[1]
  return id ? { at: 'project', id } : location.pathname === '/projects' ? { at: 'projects' } : { at: 'start' }
}

export function App() {
  const [place, setPlace] = useState<Place>(fromAddress)
  const [problem, setProblem] = useState<string | null>(null)
  const [imported, setImported] = useState<Imported | null>(null)
  const project = useBench((s) => s.project)
  const cache = useQueryClient()

  const go = useCallback((to: string, replace = false) => {
    history[replace ? 'replaceState' : 'pushState'](null, '', to)
    setPlace(fromAddress())
  }, [])
  useEffect(() => {
    const back = () => setPlace(fromAddress())
    window.addEventListener('popstate', back)
    return () => window.removeEventListener('popstate', back)
  }, [])

  const openId = useCallback((id: string) => go(`/p/${id}`), [go])
  const toProjects = useCallback(() => {
    void cache.invalidateQueries({ queryKey: keys.allProjects })
    go('/projects')
  }, [cache, go])
  const onImported = useCallback(
    (done: Imported) => {
      setImported(done)
      openId(done.project.id)
    },
    [openId],
  )

  useEffect(() => {
    setProblem(null)
    const work = async () => {
      if (place.at === 'project') await open(place.id)
      else close()
      if (place.at === 'start') {
        const projects = await answer(client.GET('/api/projects'))
        go(projects.length === 1 ? `/p/${projects[0]!.id}` : '/projects', true)
      }
    }
    work().catch((error: unknown) => setProblem(messageOf(error)))
  }, [place, go])
  useEffect(() => {
    document.title = project ? `${project.name} · Vast Mesh` : 'Vast Mesh'
  }, [project])

  if (problem)
    return (
      <Middle>
        <p role="alert">{problem}</p>
        <Button onPress={toProjects}>All projects</Button>
      </Middle>
    )
  if (place.at === 'projects') return <Projects onOpen={openId} onImported={onImported} />
  if (!project || place.at === 'start') return <Middle role="status">Opening …</Middle>
  return (
    <>
      <Bench onOpen={openId} onProjects={toProjects} onImported={onImported} />
      <ImportReport imported={imported} onClose={() => setImported(null)} />
    </>
  )
}
