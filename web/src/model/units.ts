/** Figures in the units somebody has chosen: one switch turns every view over. */

import { cell, fixed } from '../design/format'
import type { Units } from './prefs'

interface Conversion {
  readonly unit: string
  readonly factor: number
  /** How many digits more or fewer mean the same precision. */
  readonly digits: number
}

const SAME = (unit: string): Conversion => ({ unit, factor: 1, digits: 0 })
export const KILO: Readonly<Record<string, string>> = { MW: 'kW', Mvar: 'kvar', MVA: 'kVA' }

/** The unit in which a quantity of the service is shown. */
export function conversion(unit: string | null | undefined, units: Units): Conversion {
  if (!unit) return SAME('')
  if (units.power === 'kW' && KILO[unit]) return { unit: KILO[unit], factor: 1000, digits: -3 }
  if (units.current === 'kA' && unit === 'A') return { unit: 'kA', factor: 0.001, digits: 3 }
  if (units.voltage === '%' && unit === 'p.u.') return { unit: '%', factor: 100, digits: -2 }
  return SAME(unit)
}

export const shownUnit = (unit: string | null | undefined, units: Units) => conversion(unit, units).unit

/** Which units of the service are shown as which others. */
export const chosenUnits = (units: Units): Record<string, string> =>
  Object.fromEntries(
    ['MW', 'Mvar', 'MVA', 'A', 'p.u.']
      .map((unit) => [unit, shownUnit(unit, units)] as const)
      .filter(([unit, other]) => unit !== other),
  )

/** A figure of the service in the chosen unit, without it. */
export function shown(
  value: number | null | undefined,
  unit: string | null | undefined,
  digits: number | null | undefined,
  units: Units,
): string {
  if (value === null || value === undefined || typeof value !== 'number') return '–'
  const c = conversion(unit, units)
  if (digits === null || digits === undefined) return cell(value * c.factor, digits)
  return fixed(value * c.factor, Math.min(Math.max(digits + c.digits + units.digits, 0), 9))
}

/** The same with its unit. */
export function withUnit(
  value: number | null | undefined,
  unit: string | null | undefined,
  digits: number | null | undefined,
  units: Units,
): string {
  const text = shown(value, unit, digits, units)
  const mark = shownUnit(unit, units)
  return text === '–' || !mark ? text : `${text} ${mark}`
}
