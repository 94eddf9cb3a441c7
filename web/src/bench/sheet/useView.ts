/** Pan and zoom of the sheet, on d3-zoom; listeners live here, geometry elsewhere. */
import { select } from 'd3-selection'
import { type D3ZoomEvent, zoom, zoomIdentity } from 'd3-zoom'
import { type RefObject, useCallback, useEffect, useRef, useState } from 'react'
import { MAX_ZOOM, MIN_ZOOM, type View } from './geometry'

export interface Size {
  readonly width: number
  readonly height: number
}

export function useView(ref: RefObject<SVGSVGElement | null>) {
  const [view, setView] = useState<View>({ k: 1, x: 0, y: 0 })
  const [size, setSize] = useState<Size>({ width: 0, height: 0 })
  const behaviour = useRef(zoom<SVGSVGElement, unknown>())

  useEffect(() => {
    const svg = ref.current
    if (!svg) return
    const z = behaviour.current
      .scaleExtent([MIN_ZOOM, MAX_ZOOM])
      .filter((event: MouseEvent) => {
        if (event.type === 'wheel') return true
        const taken = (event.target as Element).closest('[data-kind="bus"], [data-label], [data-handle]')
        return !event.button && !event.shiftKey && !taken
      })
      .on('zoom', (event: D3ZoomEvent<SVGSVGElement, unknown>) => {
        const { k, x, y } = event.transform
        setView({ k, x, y })
      })
    select(svg).call(z).on('dblclick.zoom', null)
    const watch = new ResizeObserver(([entry]) => {
      if (entry) setSize({ width: entry.contentRect.width, height: entry.contentRect.height })
    })
    watch.observe(svg)
    return () => {
      watch.disconnect()
      select(svg).on('.zoom', null)
    }
  }, [ref])

  const go = useCallback(
    (next: View) => {
      const svg = ref.current
      if (svg)
        select(svg).call(behaviour.current.transform, zoomIdentity.translate(next.x, next.y).scale(next.k))
    },
    [ref],
  )
  return { view, size, go }
}
