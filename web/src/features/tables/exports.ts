/** Handing tables over as files. */
import { messageOf } from '../../api/client'
import { notify, useBench } from '../../bench/store'
import { save } from '../profile/save'

export async function exportTables(
  tables: readonly string[],
  form: 'csv' | 'xlsx' | 'parquet',
  rows: readonly number[] | null = null,
  columns: readonly string[] | null = null,
) {
  const { project } = useBench.getState()
  try {
    const response = await fetch(`/api/projects/${project?.id}/export`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ tables, form, rows, columns }),
    })
    if (!response.ok) throw new Error((await response.json()).detail)
    const name = decodeURIComponent(
      /filename\*=UTF-8''(.+)$/.exec(response.headers.get('content-disposition') ?? '')?.[1] ??
        `results.${form}`,
    )
    save(name, response.headers.get('content-type') ?? '', await response.blob())
  } catch (error) {
    notify('problem', `Nothing was exported: ${messageOf(error)}`)
  }
}
