/** Profiles from a file, from pasted rows, or from a metering service on this machine. */
import { client } from '../api/client'
import { path, sendOrTell } from './queue'
import { useBench } from './store'

const notesOf = (body: unknown) =>
  ((body as { notes?: string[] } | undefined)?.notes ?? []) as readonly string[]

/** Take up profiles from the bytes of a file; what was noticed on the way, or nothing where they were refused. */
export async function importProfiles(file: Blob, fill: boolean): Promise<readonly string[] | null> {
  let notes: readonly string[] = []
  const done = await sendOrTell(async (base_revision) => {
    const query = new URLSearchParams({
      base_revision: String(base_revision),
      gaps: fill ? 'fill' : 'refuse',
    })
    const address = `/api/projects/${useBench.getState().project?.id}/profiles/import?${query}`
    const headers = { 'content-type': 'application/octet-stream' }
    const response = await fetch(address, { method: 'POST', body: file, headers })
    const body = await response.json()
    notes = notesOf(body)
    return response.ok ? { data: body, response } : { error: body, response }
  })
  return done ? notes : null
}

/** A month of figures from a service. */
export async function fetchProfiles(address: string): Promise<readonly string[] | null> {
  let notes: readonly string[] = []
  const done = await sendOrTell(async (base_revision) => {
    const found = await client.POST('/api/projects/{project_id}/profiles/fetch', {
      params: { path: path() },
      body: { base_revision, address, begins: '2025-01-01T00:00', days: 31 },
    })
    notes = notesOf(found.data)
    return found
  })
  return done ? notes : null
}
