/** Making the picture: what is on it, its fonts, and its way into SVG, PNG or PDF. */
import { flushSync } from 'react-dom'
import { createRoot } from 'react-dom/client'
import { ThemeProvider } from 'styled-components'
import { messageOf } from '../../api/client'
import { fixed } from '../../design/format'
import { fontFiles } from '../../design/theme'
import type { Palette } from '../../design/tokens'
import { underCondition } from '../../model/items'
import { activeLabels, usePrefs } from '../../model/prefs'
import { notify, resultLabel, useBench } from '../../session/store'
import { paintSurface, spotsOf, spread, surfaceOf } from '../../sheet/heat'
import { labelsFor } from '../../sheet/labels'
import { bandOf, stopsOf } from '../../sheet/lens'
import { buildMapScene, readBackdrop } from '../../sheet/mapScene'
import { lensQuantities, makePaint } from '../../sheet/paint'
import { buildScene } from '../../sheet/scene'
import { save } from '../../shelf/save'
import { type Scale, SheetPicture } from './SheetPicture'

export interface Wish {
  readonly title: string
  /** Sheet units to picture units: 1 shows everything with its labels, less leaves labels out. */
  readonly zoom: number
  readonly palette: Palette
}

const TEXT =
  ".figure { font-family: 'IBM Plex Mono'; font-size: 11px; font-weight: 400 } " +
  ".name { font-family: 'IBM Plex Sans'; font-size: 12px; font-weight: 500 }"

/** The fonts inside the file itself, so that it looks the same anywhere. */
async function embeddedFonts(): Promise<string> {
  const faces = await Promise.all(
    fontFiles.map(async ({ family, weight, url }) => {
      const data = new Uint8Array(await (await fetch(url)).arrayBuffer())
      let binary = ''
      for (let i = 0; i < data.length; i += 0x8000)
        binary += String.fromCharCode(...data.subarray(i, i + 0x8000))
      return `@font-face { font-family: '${family}'; font-weight: ${weight}; src: url(data:font/woff2;base64,${btoa(binary)}) format('woff2') }`
    }),
  )
  return faces.join(' ')
}

function scalesOf(palette: Palette): Scale[] {
  const { lens, result } = useBench.getState()
  const { bands } = usePrefs.getState()
  return lensQuantities(lens, result).flatMap((q) => {
    const band = bandOf(q, bands)
    const unit = q.unit ?? q.short
    return band.length
      ? [
          {
            stops: stopsOf(palette, q.scale),
            ends: band.map((v) => `${fixed(v, q.unit === 'p.u.' ? 2 : 0)} ${unit}`),
          },
        ]
      : []
  })
}

/** The whole sheet as SVG text. */
export async function makeSvg(wish: Wish, fonts: boolean): Promise<string> {
  const bench = useBench.getState()
  const prefs = usePrefs.getState()
  const condition = bench.items.get(String(bench.items.get('settings')?.condition))
  const items = underCondition(bench.items, condition)
  const onMap = bench.arrangement === 'map'
  const scene = (onMap ? buildMapScene : buildScene)(items)
  if (!scene.box) throw new Error('There is nothing on the sheet to make a picture of.')
  const paint = makePaint({
    palette: wish.palette,
    lens: bench.lens,
    bands: prefs.bands,
    items,
    result: bench.result,
    pinned: bench.pinned?.result ?? null,
    study: bench.study,
  })
  const margin = 50
  const { box } = scene
  const k = wish.zoom
  const width = Math.round((box.maxX - box.minX) * k + 2 * margin)
  const height = Math.round((box.maxY - box.minY) * k + 2 * margin)
  const view = { k, x: margin - box.minX * k, y: margin - box.minY * k }
  const words = { set: activeLabels(prefs), units: prefs.units }
  const labels = labelsFor(scene, bench.result, words, paint, view, width, height, new Set())
  const backdrop = onMap
    ? readBackdrop(await (await fetch(`/api/projects/${bench.project?.id}/backdrop`)).json())
    : null
  const shapes = { buses: scene.buses, branches: scene.branches, hangs: scene.hangs }
  const title = [
    wish.title,
    resultLabel(),
    new Date().toISOString().slice(0, 10),
    'Vast Mesh',
    onMap ? 'map' : 'schematic',
  ]
  const style = TEXT + (fonts ? ` ${await embeddedFonts()}` : '')
  const host = document.createElement('div')
  const root = createRoot(host)
  flushSync(() =>
    root.render(
      <ThemeProvider theme={wish.palette}>
        <SheetPicture
          {...{ shapes, paint, labels, view, width, height, backdrop, title, style }}
          surface={prefs.heat ? surfaceIn(scene, view, width, height, wish.palette) : null}
          scales={scalesOf(wish.palette)}
        />
      </ThemeProvider>,
    ),
  )
  const svg = host.innerHTML
  root.unmount()
  return svg
}

function surfaceIn(
  scene: Parameters<typeof spotsOf>[0],
  view: Parameters<typeof spotsOf>[3],
  width: number,
  height: number,
  palette: Palette,
): string {
  const { lens, result } = useBench.getState()
  const canvas = document.createElement('canvas')
  const { quantity, hue } = surfaceOf(lens, result, palette, usePrefs.getState().bands)
  paintSurface(canvas, spread(spotsOf(scene, result, quantity, view), width, height), hue)
  return canvas.toDataURL('image/png')
}

const MOST_PIXELS = 120e6

export async function savePicture(
  wish: Wish,
  form: 'svg' | 'png' | 'pdf',
  more: { paper: string; mm: number | null; dots: number },
) {
  const name = wish.title || 'Sheet'
  try {
    if (form === 'svg') return save(`${name}.svg`, 'image/svg+xml', await makeSvg(wish, true))
    if (form === 'png')
      return save(`${name}.png`, 'image/png', await asPng(await makeSvg(wish, true), more.dots / 96))
    const { project } = useBench.getState()
    const response = await fetch(`/api/projects/${project?.id}/picture.pdf`, {
      method: 'POST',
      headers: { 'content-type': 'application/json' },
      body: JSON.stringify({
        svg: await makeSvg(wish, false),
        paper: more.paper,
        title: name,
        lines: [resultLabel(), new Date().toISOString().slice(0, 10)],
        mm_per_unit: more.mm,
      }),
    })
    if (!response.ok) throw new Error((await response.json()).detail)
    save(`${name}.pdf`, 'application/pdf', await response.blob())
  } catch (error) {
    notify('problem', `No picture was made: ${messageOf(error)}`)
  }
}

async function asPng(svg: string, factor: number): Promise<Blob> {
  const image = new Image()
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg)}`
  await image.decode()
  const [w, h] = [image.naturalWidth * factor, image.naturalHeight * factor]
  if (w * h > MOST_PIXELS)
    throw new Error('So many dots are too many for one picture; choose fewer, or take PDF or SVG.')
  const canvas = document.createElement('canvas')
  canvas.width = Math.round(w)
  canvas.height = Math.round(h)
  canvas.getContext('2d')?.drawImage(image, 0, 0, canvas.width, canvas.height)
  return new Promise((done, failed) =>
    canvas.toBlob((b) => (b ? done(b) : failed(new Error('The browser gave no picture.'))), 'image/png'),
  )
}
