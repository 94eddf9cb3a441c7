/** What is outside its limits, the worst first; each leads to its element. */
import { useVirtualizer } from '@tanstack/react-virtual'
import { useRef } from 'react'
import styled from 'styled-components'
import type { Finding } from '../../api/client'
import { fixed } from '../../design/format'
import { Mark } from '../../design/Icon'
import { font } from '../../design/tokens'
import { hover, select, useBench } from '../store'

const Scroll = styled.div`height: 100%; overflow-y: auto;`
const List = styled.ul`list-style: none; margin: 0; padding: 0; position: relative;`
const Row = styled.button`
  display: grid; grid-template-columns: 30px minmax(120px, 190px) 92px 60px minmax(0, 1fr); align-items: center; gap: 8px;
  width: 100%; height: 30px; padding: 0 16px; border: none; border-bottom: 1px solid ${(p) => p.theme.rule}; background: transparent;
  text-align: left; cursor: pointer;
  &:hover { background: ${(p) => p.theme.accentWash}; }
  &[aria-current='true'] { background: ${(p) => p.theme.accentWash}; }
  &:focus-visible { outline-offset: -2px; }
  .mark { color: var(--tone); display: flex; } .value { color: var(--tone); font: 500 12.5px/1 ${font.mono}; text-align: right; }
  .name { font-weight: 500; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  .text { color: ${(p) => p.theme.quiet}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  &[data-severity='breach'] { --tone: ${(p) => p.theme.breach}; }
  &[data-severity='watch'] { --tone: ${(p) => p.theme.watchInk}; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet};`

const ROW = 30

export function Findings({ findings }: { findings: readonly Finding[] }) {
  const { items, selected, result, failed } = useBench()
  const scroll = useRef<HTMLDivElement>(null)
  const rows = useVirtualizer({
    count: findings.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => ROW,
    overscan: 8,
  })
  if (!findings.length) {
    if (failed || !result) return <None>No result to judge.</None>
    return <None>Every voltage and loading is within its limits, and the model has no gaps.</None>
  }
  return (
    <Scroll ref={scroll}>
      <List style={{ height: rows.getTotalSize() }}>
        {rows.getVirtualItems().map((v) => {
          const f = findings[v.index]!
          return (
            <li key={v.key} style={{ position: 'absolute', top: v.start, left: 0, right: 0 }}>
              <Row
                type="button"
                data-severity={f.severity}
                aria-current={selected === f.element}
                onClick={() => select(f.element, { reveal: true })}
                onPointerEnter={() => hover(f.element)}
                onPointerLeave={() => hover(null)}
              >
                <span className="mark">
                  <Mark severity={f.severity} direction={f.direction} />
                </span>
                <span className="name">{items.get(f.element)?.name ?? f.element}</span>
                <span className="value">
                  {typeof f.value === 'number'
                    ? `${fixed(f.value, f.unit === '%' ? 1 : 3)} ${f.unit ?? ''}`
                    : f.limit_name}
                </span>
                <span>{f.severity}</span>
                <span className="text">{f.text}</span>
              </Row>
            </li>
          )
        })}
      </List>
    </Scroll>
  )
}
