/** What every plot has: its size, and its ways out as a file. */
import { type ReactNode, type RefObject, useEffect, useRef, useState } from 'react'
import styled from 'styled-components'
import type { components } from '../api/schema'
import { savePlot, saveTable } from './plotFiles'

const Acts = styled.div`
  position: absolute; right: 0; top: -4px; margin: 0; padding: 0; display: flex;
  button { border: none; background: ${(p) => p.theme.paper}; color: ${(p) => p.theme.quiet}; padding: 0 6px; min-height: 24px; font-size: 12px; cursor: pointer; border-radius: 4px; }
  button:hover { color: ${(p) => p.theme.ink}; } button[aria-pressed='true'] { color: ${(p) => p.theme.accent}; background: ${(p) => p.theme.accentWash}; }
`
/** Width of a letter beside a curve. */
export const LETTER = 6.7

/** How wide and high an element is now. */
export function useSize() {
  const frame = useRef<HTMLDivElement>(null)
  const [size, setSize] = useState({ width: 460, height: 150 })
  useEffect(() => {
    const watch = new ResizeObserver(
      ([e]) => e && setSize({ width: e.contentRect.width, height: e.contentRect.height }),
    )
    if (frame.current) watch.observe(frame.current)
    return () => watch.disconnect()
  }, [])
  return { frame, size }
}

/** A word that fits into so many pixels. */
export function shortened(word: string, width: number): string {
  const most = Math.floor((width - 4) / LETTER)
  return word.length <= most ? word : `${word.slice(0, Math.max(most - 1, 1))}…`
}

export function PlotActs(props: {
  figure: components['schemas']['FigureOut']
  drawing: RefObject<SVGSVGElement | null>
  children?: ReactNode
}) {
  const { figure, drawing } = props
  const picture = (form: 'svg' | 'png') => drawing.current && savePlot(drawing.current, figure.label, form)
  return (
    <Acts role="group" aria-label={`Plot: ${figure.label}`}>
      {props.children}
      <button type="button" onClick={() => picture('svg')}>
        SVG
      </button>
      <button type="button" onClick={() => picture('png')}>
        PNG
      </button>
      <button type="button" onClick={() => saveTable(figure)}>
        CSV
      </button>
    </Acts>
  )
}
