/** Handing tables over as files. */
import { messageOf, TAB } from '../../api/client'
import { usePrefs } from '../../model/prefs'
import { chosenUnits } from '../../model/units'
import { notify, useBench } from '../../session/store'
import { save } from '../save'

export async function exportTables(
  tables: readonly string[],
  form: 'csv' | 'xlsx' | 'parquet',
  rows: readonly number[] | null = null,
  columns: readonly string[] | null = null,
  address = 'live',
) {
  const { project } = useBench.getState()
  const { units } = usePrefs.getState()
  try {
    const response = await fetch(`/api/projects/${project?.id}/results/${address}/export?tab=${TAB}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({ tables, form, rows, columns, units: chosenUnits(units) }),
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
