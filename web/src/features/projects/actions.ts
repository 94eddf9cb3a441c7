/** What can be done with whole projects. */
import { answer, client, type Imported, type Project } from '../../api/client'

const at = (project: Project) => ({ params: { path: { project_id: project.id } } })

export const createProject = (name: string) => answer(client.POST('/api/projects', { body: { name } }))
export const renameProject = (project: Project, name: string) =>
  answer(client.PATCH('/api/projects/{project_id}', { ...at(project), body: { name } }))
export const copyProject = (project: Project) =>
  answer(
    client.POST('/api/projects/{project_id}/copy', {
      ...at(project),
      body: { name: `${project.name} (copy)`.slice(0, 120) },
    }),
  )
export const removeProject = (project: Project) =>
  answer(client.DELETE('/api/projects/{project_id}', at(project)))
export const restoreProject = (project: Project) =>
  answer(client.POST('/api/projects/{project_id}/restore', at(project)))

/** Upload a file as it is; the service tells its format. */
export async function importFile(file: File): Promise<Imported> {
  return answer(
    client.POST('/api/projects/import', {
      params: { query: { file_name: file.name } },
      body: file as unknown as string,
      bodySerializer: (body: unknown) => body as BodyInit,
      headers: { 'content-type': 'application/octet-stream' },
    }),
  )
}

export function chooseFile(): Promise<File | null> {
  return new Promise((resolve) => {
    const input = document.createElement('input')
    input.type = 'file'
    input.accept = '.json,.cdf,.txt,.dat'
    input.onchange = () => resolve(input.files?.[0] ?? null)
    input.oncancel = () => resolve(null)
    input.click()
  })
}

/** Let the browser save the network in a format. */
export function exportProject(project: Project, format: string) {
  const link = document.createElement('a')
  link.href = `/api/projects/${project.id}/export/${format}`
  link.download = ''
  link.click()
}
