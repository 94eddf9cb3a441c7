/** The model check: what is missing, implausible or contradictory, each with a jump and, where there is one, a repair. */
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef } from 'react'
import styled from 'styled-components'
import { Mark } from '../../design/Icon'
import { changeOrTell } from '../../session/edits'
import { hover, select, useParts } from '../../session/store'
import { useChecks } from './useChecks'

const Scroll = styled.div`height: 100%; overflow-y: auto; &:focus-visible { outline-offset: -3px; }`
const Row = styled.div`
  display: grid; grid-template-columns: 30px minmax(110px, 190px) 90px minmax(0, 1fr) auto; align-items: center; gap: 8px;
  height: 31px; padding: 0 12px 0 16px; border-bottom: 1px solid ${(p) => p.theme.rule};
  &:hover, &[aria-current='true'] { background: ${(p) => p.theme.accentWash}; }
  .mark { color: var(--tone); display: flex; }
  &[data-severity='breach'] { --tone: ${(p) => p.theme.breach}; } &[data-severity='watch'] { --tone: ${(p) => p.theme.watchInk}; }
  .text, .rule { color: ${(p) => p.theme.quiet}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
`
const Name = styled.button`
  border: none; background: none; padding: 0; text-align: left; font-weight: 500; overflow: hidden; text-overflow: ellipsis; white-space: nowrap;
  cursor: pointer; &:hover { text-decoration: underline; }
`
const Mend = styled.button`
  border: 1px solid ${(p) => p.theme.rule}; border-radius: 5px; background: ${(p) => p.theme.panel}; padding: 2px 9px; color: ${(p) => p.theme.accent};
  white-space: nowrap; cursor: pointer; &:hover { border-color: ${(p) => p.theme.accent}; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet};`

const ROW = 31
const WORDS: Readonly<Record<string, string>> = {
  missing: 'missing',
  supply: 'supply',
  voltage: 'voltage',
  impedance: 'impedance',
  x_over_r: 'X / R',
  cooling: 'cooling',
  parallel: 'parallel',
  length: 'length',
  reactance: 'constants',
  resistance: 'constants',
  rating: 'rating',
  protection: 'protection',
  switchgear: 'switchgear',
  breaking: 'breaking',
  loop: 'loop',
  ends: 'open end',
  names: 'name',
  types: 'type',
}

export function Check() {
  const checks = useChecks()
  const { items, selected } = useParts('items', 'selected')
  const scroll = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: checks.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 8,
  })
  if (!checks.length)
    return <None>Nothing is missing, and no figure is out of the ordinary. This list is kept as you go.</None>
  return (
    <Scroll ref={scroll} tabIndex={0} role="region" aria-label="Model check">
      <div style={{ height: rows.getTotalSize(), position: 'relative' }}>
        {rows.getVirtualItems().map((v) => {
          const c = checks[v.index]!
          const name = items.get(c.element)?.name ?? c.element
          return (
            <Row
              key={v.key}
              data-severity={c.severity}
              data-rule={c.rule}
              aria-current={selected === c.element}
              style={{ position: 'absolute', top: v.start, left: 0, right: 0 }}
              onPointerEnter={() => hover(c.element)}
              onPointerLeave={() => hover(null)}
            >
              <span className="mark">
                <Mark severity={c.severity} direction="" />
              </span>
              <Name type="button" onClick={() => select(c.element, { reveal: true })}>
                {name}
              </Name>
              <span className="rule">{WORDS[c.rule] ?? c.rule}</span>
              <span className="text" title={c.text}>
                {c.text}
              </span>
              {c.repair ? (
                <Mend
                  type="button"
                  onClick={() =>
                    void changeOrTell(`Mend ${name}: ${c.repair?.label}`, c.repair?.changes ?? [])
                  }
                >
                  {c.repair.label}
                </Mend>
              ) : (
                <span />
              )}
            </Row>
          )
        })}
      </div>
    </Scroll>
  )
}
