/** The menu behind the project's name. */
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { MenuTrigger, Separator } from 'react-aria-components'
import styled from 'styled-components'
import { type Imported, messageOf } from '../../api/client'
import { vocabularyQuery } from '../../api/queries'
import { Menu, MenuItem, Plain, Popover } from '../../design/controls'
import { Icon } from '../../design/Icon'
import { notify, useBench } from '../../session/store'
import { chooseFile, copyProject, exportProject, importFile, removeProject, renameProject } from './actions'
import { NameDialog } from './Projects'

const Line = styled(Separator)`height: 1px; background: ${(p) => p.theme.rule}; margin: 4px 6px;`
const Name = styled(
  Plain,
)`max-width: 260px; overflow: hidden; padding: 0 8px; span { overflow: hidden; text-overflow: ellipsis; }`

interface Props {
  readonly onOpen: (id: string) => void
  readonly onProjects: () => void
  readonly onImported: (imported: Imported) => void
}

export function ProjectMenu({ onOpen, onProjects, onImported }: Props) {
  const project = useBench((s) => s.project)
  const formats = useQuery(vocabularyQuery).data?.formats ?? {}
  const [naming, setNaming] = useState(false)
  if (!project) return null
  const run = async (work: () => Promise<unknown>) => {
    try {
      await work()
    } catch (error) {
      notify('problem', messageOf(error))
    }
  }
  const open = async () => {
    const file = await chooseFile()
    if (file) onImported(await importFile(file))
  }
  const act = (key: string) => {
    if (key === 'all') onProjects()
    else if (key === 'rename') setNaming(true)
    else if (key === 'open') void run(open)
    else if (key === 'copy') void run(async () => onOpen((await copyProject(project)).id))
    else if (key === 'remove')
      void run(async () => {
        await removeProject(project)
        onProjects()
      })
    else exportProject(project, key)
  }
  return (
    <>
      <MenuTrigger>
        <Name aria-label={`Project ${project.name}`}>
          <span>{project.name}</span>
          <Icon name="down" size={12} />
        </Name>
        <Popover placement="bottom start">
          <Menu onAction={(key) => act(String(key))}>
            <MenuItem id="all">All projects</MenuItem>
            <MenuItem id="open">Open a network file …</MenuItem>
            <Line />
            {Object.entries(formats).map(([name, label]) => (
              <MenuItem key={name} id={name}>
                Save as {label}
              </MenuItem>
            ))}
            <Line />
            <MenuItem id="rename">Rename …</MenuItem>
            <MenuItem id="copy">Make a copy</MenuItem>
            <MenuItem id="remove">Remove (can be restored)</MenuItem>
          </Menu>
        </Popover>
      </MenuTrigger>
      <NameDialog
        title="Rename the project"
        word="Rename"
        initial={project.name}
        isOpen={naming}
        onClose={() => setNaming(false)}
        onName={(name) =>
          void run(async () => useBench.setState({ project: await renameProject(project, name) }))
        }
      />
    </>
  )
}
