/** Units of the card: what stands at low voltage is entered and told in kW, everything where that is the unit chosen. */
import { busesOf, type Item, number } from '../model/items'
import { type Units, usePrefs } from '../model/prefs'
import { useBench } from '../session/store'

export function useCardUnits(item: Item): Units {
  const units = usePrefs((s) => s.units)
  const items = useBench((s) => s.items)
  const buses = item.kind === 'bus' ? [item] : busesOf(item).map((id) => items.get(id))
  const low =
    buses.length > 0 && buses.every((b) => (number(b, 'nominal_kv') ?? Number.POSITIVE_INFINITY) <= 1)
  return low ? { ...units, power: 'kW' } : units
}
