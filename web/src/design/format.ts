/** How figures are written: never more digits than mean something, a thin space between thousands. */

export type Cell = string | number | boolean | null | undefined

const MINUS = '−'
const THIN = '\u2009'

export function fixed(value: number | null | undefined, digits: number): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return '–'
  const text = Math.abs(value).toFixed(digits)
  const negative = value < 0 && Number(text) !== 0
  const [whole = '', part] = text.split('.')
  const grouped = whole.length > 4 ? whole.replace(/\B(?=(\d{3})+$)/g, THIN) : whole
  return (negative ? MINUS : '') + grouped + (part ? `.${part}` : '')
}

/** A figure with about so many significant digits, and no exponent in the ordinary range. */
export function significant(value: number | null | undefined, digits = 3): string {
  if (value === null || value === undefined || !Number.isFinite(value)) return '–'
  if (value === 0) return '0'
  const size = Math.floor(Math.log10(Math.abs(value)))
  if (size < -4) return value.toExponential(1).replace('-', MINUS)
  return fixed(value, Math.min(Math.max(digits - 1 - size, 0), 6))
}

/** An entered figure as it was entered: no rounding, no grouping. */
export function exact(value: number, factor = 1): string {
  return String(Number((value * factor).toPrecision(12))).replace('-', MINUS)
}

/** What somebody typed as a number: decimal comma, typographic minus and spaces are understood. */
export function parseNumber(text: string): number {
  const plain = text
    .replace(/[\s\u2009\u00a0]/g, '')
    .replace(MINUS, '-')
    .replace(',', '.')
  return plain === '' || !/^[-+]?(\d+\.?\d*|\.\d+)(e[-+]?\d+)?$/i.test(plain) ? Number.NaN : Number(plain)
}

export function cell(value: Cell, digits: number | null | undefined): string {
  if (value === null || value === undefined) return '–'
  if (typeof value === 'number')
    return digits === null || digits === undefined ? String(value) : fixed(value, digits)
  return String(value)
}

/** Active power with the unit that suits its size. */
export function power(mw: number | null | undefined): string {
  if (mw === null || mw === undefined || !Number.isFinite(mw)) return '–'
  const size = Math.abs(mw)
  if (size < 0.9995 && size >= 0.00005) return `${significant(mw * 1000, size < 0.01 ? 2 : 3)} kW`
  return `${fixed(mw, size < 10 ? 2 : 1)} MW`
}
