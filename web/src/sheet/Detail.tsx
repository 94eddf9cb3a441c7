/** What stands under the pointer, in figures. */
import styled from 'styled-components'
import { fixed, power } from '../design/format'
import { font } from '../design/tokens'
import { figure } from '../model/results'
import { useBench, useItem } from '../session/store'
import { toScreen, type View } from './geometry'
import type { Scene } from './scene'

export const Box = styled.div`
  position: absolute; pointer-events: none; background: ${(p) => p.theme.paper}; border: 1px solid ${(p) => p.theme.rule};
  border-radius: 6px; padding: 6px 9px; font-size: 12px; box-shadow: 0 3px 12px rgb(0 0 0 / 0.12); white-space: nowrap; z-index: 3;
  b { font-weight: 500; } div { font-family: ${font.mono}; font-size: 11.5px; }
`

export function Detail({ scene, view }: { scene: Scene; view: View }) {
  const id = useBench((s) => s.hovered)
  const item = useItem(id)
  const result = useBench((s) => s.result)
  const at = id ? scene.centre.get(id) : undefined
  const selected = useBench((s) => s.selected)
  if (!item || !at || !id || id === selected) return null
  const p = toScreen(view, at)
  return (
    <Box style={{ left: p.x + 16, top: p.y + 14 }}>
      <b>{item.name}</b>
      {linesFor(id, item.kind, result).map((line) => (
        <div key={line}>{line}</div>
      ))}
    </Box>
  )
}

function linesFor(
  id: string,
  kind: string,
  result: ReturnType<typeof useBench.getState>['result'],
): string[] {
  const get = (table: string, name: string) => figure(result?.tables[table], id, name)
  if (kind === 'bus') {
    const v = get('buses', 'voltage_pu')
    if (v === undefined) return ['no supply']
    return [
      `${fixed(v, 4)} p.u. · ${fixed(get('buses', 'voltage_kv'), 3)} kV · ${fixed(get('buses', 'angle_deg'), 2)}°`,
    ]
  }
  if (result?.tables.branches?.row.has(id)) {
    const p = get('branches', 'from_active_power_mw')
    if (p === undefined) return ['carries nothing']
    const loading = get('branches', 'loading_pct')
    return [
      `${power(p)} · ${fixed(get('branches', 'from_reactive_power_mvar'), 3)} Mvar · ${fixed(get('branches', 'from_current_a'), 1)} A`,
      `${loading === undefined ? 'no rating' : `${fixed(loading, 1)} % loaded`} · loss ${power(get('branches', 'active_loss_mw'))}`,
    ]
  }
  const p = get('injections', 'active_power_mw')
  if (p === undefined) return ['no supply']
  return [`${power(p)} · ${fixed(get('injections', 'reactive_power_mvar'), 3)} Mvar`]
}
