/** One cell of a small result table: a figure in the chosen units, or the element where it was found, to select. */

import { usePrefs } from '../model/prefs'
import { shown } from '../model/units'
import { select, useBench } from '../session/store'

interface Column {
  readonly name: string
  readonly unit?: string | null
  readonly digits?: number | null
}

export function FigureCell(props: { column: Column; value: unknown; text?: (value: string) => string }) {
  const { column, value, text = (v) => v } = props
  const units = usePrefs((s) => s.units)
  const place = useBench((s) =>
    column.name.endsWith('_at') && value ? s.items.get(String(value)) : undefined,
  )
  if (!column.name.endsWith('_at')) {
    const words = column.digits === null || column.digits === undefined
    return (
      <td>
        {words
          ? text(String(value ?? '–'))
          : shown(value as number | null, column.unit, column.digits, units)}
      </td>
    )
  }
  if (!value) return <td>–</td>
  return (
    <td>
      <button type="button" onClick={() => select(String(value), { reveal: true })}>
        {place?.name ?? String(value)}
      </button>
    </td>
  )
}
