/** A plot as a file: the drawing as it stands, as a picture, or its figures. */
import type { components } from '../api/schema'
import { save, savePng } from './save'

type Figure = components['schemas']['FigureOut']

/** The drawing with the type it is set in and a ground of its own. */
function standalone(drawing: SVGSVGElement): SVGSVGElement {
  const copy = drawing.cloneNode(true) as SVGSVGElement
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg')
  const ground = document.createElementNS('http://www.w3.org/2000/svg', 'rect')
  ground.setAttribute('width', '100%')
  ground.setAttribute('height', '100%')
  ground.setAttribute('fill', getComputedStyle(document.body).backgroundColor)
  copy.prepend(ground)
  for (const text of copy.querySelectorAll('text')) text.setAttribute('style', 'font: 11px monospace')
  return copy
}

export function savePlot(drawing: SVGSVGElement, label: string, form: 'svg' | 'png') {
  const copy = standalone(drawing)
  if (form === 'svg') return save(`${label}.svg`, 'image/svg+xml', copy.outerHTML)
  return savePng(`${label}.png`, copy, drawing)
}

const cell = (v: number | string | null | undefined) => {
  const text = v === null || v === undefined ? '' : String(v)
  // A text that a spreadsheet would take for a formula stays a text.
  const safe = typeof v === 'string' && /^[=+@-]/.test(text) ? `'${text}` : text
  return /[",\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe
}

/** The figures behind a plot: one row for every place along x, one column for every series. */
export function tableText(figure: Figure): string {
  if (figure.series.some((s) => s.drawn === 'cells')) return cellText(figure)
  const places = [...new Set(figure.series.flatMap((s) => s.x))]
  const unit = (words: string, u: string | null | undefined) => (u ? `${words} ${u}` : words)
  const rows = places.map((p) => [p, ...figure.series.map((s) => s.y[s.x.indexOf(p)])].map(cell).join(','))
  const heads = [
    unit(figure.x.label, figure.x.unit),
    ...figure.series.map((s) => unit(`${figure.y.label}, ${s.label}`, figure.y.unit)),
  ]
  return [heads.map(cell).join(','), ...rows].join('\r\n')
}

/** Cells one below the other. */
function cellText(figure: Figure): string {
  const z = figure.z ? `${figure.z.label}${figure.z.unit ? ` ${figure.z.unit}` : ''}` : 'value'
  const rows = figure.series.flatMap((s) => s.x.map((x, i) => [x, s.y[i], s.z?.[i]].map(cell).join(',')))
  return [[figure.x.label, figure.y.label, z].map(cell).join(','), ...rows].join('\r\n')
}

export const saveTable = (figure: Figure) =>
  save(`${figure.label}.csv`, 'text/csv', `\ufeff${tableText(figure)}`)
