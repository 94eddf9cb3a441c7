/** Pan and zoom of the sheet, on d3-zoom; listeners live here, geometry elsewhere. */
import { select } from 'd3-selection'
import { type D3ZoomEvent, zoom, zoomIdentity, zoomTransform } from 'd3-zoom'
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
    let last: Size | null = null
    const watch = new ResizeObserver(([entry]) => {
      if (!entry) return
      const { width, height } = entry.contentRect
      // What stands in the middle stays there when the shelf or the card takes room.
      if (last?.width && width && (last.width !== width || last.height !== height)) {
        const { k, x, y } = zoomTransform(svg)
        const next = zoomIdentity
          .translate(x + (width - last.width) / 2, y + (height - last.height) / 2)
          .scale(k)
        select(svg).call(z.transform, next)
      }
      last = { width, height }
      setSize(last)
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
