/** The sheet: the diagram with its labels, marks, grow handles and legend. */
import { useQuery } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useRef, useState } from 'react'
import styled, { ThemeProvider, useTheme } from 'styled-components'
import type { Finding } from '../api/client'
import { feedersQuery } from '../api/queries'
import { IconButton } from '../design/controls'
import { MarkShape } from '../design/Icon'
import { font } from '../design/tokens'
import { drawnAlike, type Item, type Items, number, underCondition, withLoss } from '../model/items'
import { activeLabels, usePrefs } from '../model/prefs'
import { placeAs, throwSwitch } from '../session/edits'
import { endTrial } from '../session/live'
import { pick } from '../session/pick'
import { repair } from '../session/queue'
import { lookAway } from '../session/runs'
import {
  fitSheet,
  hover,
  select,
  selection,
  toggle,
  useBench,
  useCondition,
  useParts,
} from '../session/store'
import { paintCanvas } from './canvas'
import { Detail } from './Detail'
import { fold, LEAST_BUSES, type Mark, sitesOf, stepAt } from './folding'
import { Backdrop, HeatSurface, Places, Routes, useBackdrop } from './Geography'
import { GrowHandles } from './GrowHandles'
import { boxOf, centred, fitView, type Point, pathOf, toScreen, type View, zoomed } from './geometry'
import { hitAt } from './hit'
import { Legend } from './Legend'
import { inkOf, type Label, labelsFor } from './labels'
import { MarkDetail, MarksKey, MarksLayer, markBoxes, marksIn } from './MarksLayer'
import { buildMapScene, placedBuses } from './mapScene'
import { arrow, neighbour } from './neighbour'
import { Painter, type Shapes } from './Painter'
import { makePaint, type Paint } from './paint'
import { SchemeLayer } from './SchemeLayer'
import { type BranchShape, buildScene, type HangShape, type Scene } from './scene'
import { boxFrom, type Drag, type Moving, moveBuses, movedOnMap, useDrag } from './useDrag'
import { useView } from './useView'

const MOST_SVG = 1600
/** A selected bus with its neighbours. */
const INSET_ZOOM = 0.55
const NO_HANGS: readonly HangShape[] = []
/** As many chosen elements have their labels whatever the zoom. */
const MOST_MARKED = 80

const Frame = styled.section`
  position: relative; overflow: hidden; background: ${(p) => p.theme.panel}; min-height: 0; height: 100%;
  canvas { position: absolute; inset: 0; width: 100%; height: 100%; pointer-events: none; }
`
const Drawing = styled.svg`
  position: absolute; inset: 0; width: 100%; height: 100%; touch-action: none; cursor: grab; user-select: none;
  &:active { cursor: grabbing; }
  [data-id] { cursor: pointer; }
  &:focus-visible { outline-offset: -3px; }
  text { font: 400 11px ${font.mono}; }
  .name { font: 500 12px ${font.sans}; }
  .running { animation: run 1.1s linear infinite; }
  @keyframes run { from { stroke-dashoffset: 16; } to { stroke-dashoffset: 0; } }
  @media (prefers-reduced-motion: reduce) { .running { animation: none; } }
`
const Corner = styled.div`
  position: absolute; right: 12px; bottom: 12px; display: flex; flex-direction: column; gap: 4px;
  button { border: 1px solid ${(p) => p.theme.rule}; background: ${(p) => p.theme.paper}; }
`
const Behind = styled.svg`position: absolute; inset: 0; width: 100%; height: 100%; pointer-events: none;`
const Looking = styled.div`
  position: absolute; top: 10px; left: 50%; transform: translateX(-50%); padding: 4px 6px 4px 14px; border-radius: 15px; z-index: 4;
  background: ${(p) => p.theme.panel}; border: 1px solid ${(p) => p.theme.watch}; white-space: nowrap;
  button { border: none; background: none; color: ${(p) => p.theme.accent}; text-decoration: underline; min-height: 24px; cursor: pointer; }
`
const Damaged = styled.div`
  position: absolute; top: 10px; left: 50%; transform: translateX(-50%); padding: 6px 14px; border-radius: 8px; z-index: 5; max-width: 640px;
  background: ${(p) => p.theme.breachWash}; color: ${(p) => p.theme.breach}; border: 1px solid ${(p) => p.theme.breach};
  button { border: none; background: none; color: ${(p) => p.theme.accent}; text-decoration: underline; min-height: 24px; cursor: pointer; padding: 0; }
`
const Stale = styled.div`
  position: absolute; top: 10px; left: 50%; transform: translateX(-50%); padding: 4px 12px; border-radius: 14px;
  background: ${(p) => p.theme.breachWash}; color: ${(p) => p.theme.breach}; border: 1px solid ${(p) => p.theme.breach}; font-weight: 500;
`

/** The items as the gesture under way would leave them. */
function withMoved(items: Items, moving: Moving | null, onMap: boolean): Items {
  if (!moving || moving.drag.kind === 'box') return items
  const { drag, dx, dy } = moving
  const next = new Map(items)
  const put = (id: string, change: (item: Item) => Partial<Item>) => {
    const item = items.get(id)
    if (item) next.set(id, { ...item, ...change(item) } as Item)
  }
  const plus = (item: Item, field: string, by: number, blank = 0) => (number(item, field) ?? blank) + by
  if (drag.kind === 'move' && onMap) for (const id of drag.ids) put(id, (i) => movedOnMap(i, dx, dy))
  else if (drag.kind === 'move')
    for (const id of drag.ids) put(id, (i) => ({ x: plus(i, 'x', dx), y: plus(i, 'y', dy) }))
  else if (drag.kind === 'label')
    put(drag.id, (i) => ({ label_dx: plus(i, 'label_dx', dx), label_dy: plus(i, 'label_dy', dy) }))
  else
    put(drag.id, (i) => {
      const by = (i.upright === true ? dy : dx) * drag.end
      const axis = i.upright === true ? 'y' : 'x'
      return { bar: Math.max(plus(i, 'bar', by, 36), 20), [axis]: plus(i, axis, (by / 2) * drag.end) }
    })
  return next
}

/** ``inset``: small, beside a desk that takes the whole height; it follows what is selected. */
export function Sheet({ growMenu, inset = false }: { growMenu: () => void; inset?: boolean }) {
  const theme = useTheme()
  const svg = useRef<SVGSVGElement>(null)
  const dragged = useRef(false)
  const { view, size, go } = useView(svg)
  const normal = useBench((s) => s.items)
  const condition = useCondition()
  const lost = useBench((s) => s.trying?.lost)
  const moment = useBench((s) => s.trying?.moment)
  const year = useBench((s) => s.trying?.year)
  const switched = useMemo(
    () => underCondition(normal, withLoss(condition, lost?.ids, lost?.closed)),
    [normal, condition, lost],
  )
  const items = useDrawn(switched)
  const { result, failed, selected, chosen, hovered, lens, reveal, grid, picking, pinned } = useParts(
    'result',
    'failed',
    'selected',
    'chosen',
    'hovered',
    'lens',
    'reveal',
    'grid',
    'picking',
    'pinned',
  )
  const { arrangement, study, looking, damage } = useParts('arrangement', 'study', 'looking', 'damage')
  const prefs = usePrefs()
  const onMap = arrangement === 'map'
  const projectId = useBench((s) => s.project?.id)
  const build = onMap ? buildMapScene : buildScene
  const still = useMemo(() => build(items), [build, items])
  const { moving, start, grab, box } = useDrag(view, still, () => svg.current?.getBoundingClientRect())
  if (moving) dragged.current = true
  const scene = useMemo(
    () => (moving && moving.drag.kind !== 'box' ? build(withMoved(items, moving, onMap)) : still),
    [items, moving, still, build, onMap],
  )
  const feeders = useFeeders(lens === 'feeder')
  const backdrop = useBackdrop(onMap)
  // What is drawn hollow shows what it stands on: the panel, or land.
  const ground = useMemo(() => (onMap ? { ...theme, panel: theme.land } : theme), [onMap, theme])
  const paint = useMemo(
    () =>
      makePaint({
        palette: ground,
        lens,
        bands: prefs.bands,
        items,
        result,
        feeders,
        pinned: pinned?.result ?? null,
        study,
      }),
    [ground, lens, prefs.bands, items, result, feeders, pinned, study],
  )
  const folded = useFolded(scene, view.k)
  const shapes = useMemo(() => visible(folded, view, size), [folded, view, size])
  const [pointed, point] = useState<Mark | null>(null)
  const count = shapes.buses.length + shapes.branches.length + shapes.hangs.length
  const many = count > MOST_SVG

  const fitAsked = useBench((s) => s.fit)
  const wanted = `${projectId} ${fitAsked} ${arrangement}`
  const fitted = useRef('')
  useEffect(() => {
    if (!projectId || !scene.box || !size.width || fitted.current === wanted) return
    fitted.current = wanted
    go(fitView(scene.box, size.width, size.height))
  }, [wanted, projectId, scene, size, go])
  useReveal(reveal, selected, scene, view, size, go)
  useSpan(scene, view, size, go)
  useInset(inset, selected, scene, view, size, go)

  const zoomBy = (factor: number) => go(zoomed(view, factor, { x: size.width / 2, y: size.height / 2 }))
  const emphasised = useMemo(
    () =>
      new Set(
        [...(chosen.size <= MOST_MARKED ? chosen : []), chosen.size ? null : selected, hovered].filter(
          (i): i is string => !!i,
        ),
      ),
    [selected, chosen, hovered],
  )
  const words = useMemo(() => ({ set: activeLabels(prefs), units: prefs.units }), [prefs])
  const labels = useMemo(
    () =>
      labelsFor(
        { ...shapes, labelMoves: scene.labelMoves },
        result,
        words,
        paint,
        view,
        size.width,
        size.height,
        emphasised,
        markBoxes(marksIn(folded, view, size), view),
      ),
    [shapes, folded, scene, result, words, paint, view, size, emphasised],
  )
  const apart = Math.round(32 / Math.min(view.k, 1.6)) / 10
  const symbolScale = Math.round(Math.max(1, Math.min(2.2, 0.7 / view.k)) * 10) / 10

  const keyDown = (event: React.KeyboardEvent) => {
    const way = arrow(event.key)
    if (way && event.shiftKey) {
      moveBuses(selection(), way.x * 10, way.y * 10)
    } else if (way) select(neighbour(scene.centre, selected, way), { reveal: true })
    else if (event.key === '+' || event.key === '=') zoomBy(1.3)
    else if (event.key === '-') zoomBy(1 / 1.3)
    else if (event.key === 'Escape') select(null)
    else return
    event.preventDefault()
  }
  const idAt = (event: React.MouseEvent) => {
    const target = event.target as Element
    const told =
      target.closest?.('[data-id]')?.getAttribute('data-id') ??
      target.closest?.('[data-of]')?.getAttribute('data-of')
    if (told || !many) return told ?? null
    const frame = svg.current?.getBoundingClientRect()
    return frame ? hitAt(shapes, view, { x: event.clientX - frame.x, y: event.clientY - frame.y }) : null
  }
  const openMark = useCallback(
    (mark: Mark) => {
      if (dragged.current) return
      const fit = fitView(mark.box, size.width, size.height)
      const k = Math.max(fit.k, mark.opens * 1.02)
      point(null)
      go(centred({ ...fit, k }, mark.at, size.width, size.height))
    },
    [size, go],
  )
  const choose = (event: React.MouseEvent) => {
    const id = idAt(event)
    if (picking && id && items.get(id)?.kind === 'bus') return pick(id)
    if (dragged.current) return
    if (event.shiftKey) {
      if (id) toggle(id)
      return
    }
    select(id)
  }
  const press = (event: React.PointerEvent) => {
    dragged.current = false
    const label = (event.target as Element).getAttribute('data-label')
    if (label) return start(event, { kind: 'label', id: label }, { x: 0, y: 0 })
    const id = idAt(event)
    // A name is no handle: from there the sheet is moved, and not the bus.
    const named = (event.target as Element).closest?.('[data-of]')
    const bus = named ? undefined : scene.busById.get(id ?? '')
    // On the canvas a drag moves the sheet: too much stands too close for moving single buses.
    if (bus && !event.shiftKey && !many) grab(event, bus.id, bus)
    else if (event.shiftKey && !id) box(event)
  }

  /** What stands in a mark has no place of its own meanwhile. */
  const open = (id: string | null) => (id && folded.within.has(id) ? null : id)

  return (
    <Frame aria-label="Sheet">
      {onMap && (
        <Behind aria-hidden="true">
          <g transform={`translate(${view.x} ${view.y}) scale(${view.k})`}>
            <Backdrop map={backdrop} />
          </g>
        </Behind>
      )}
      {prefs.heat && <HeatSurface scene={scene} view={view} {...size} />}
      {many && (
        <Canvas
          shapes={onMap ? { ...shapes, hangs: view.k > 0.8 ? shapes.hangs : NO_HANGS } : shapes}
          paint={paint}
          view={view}
          {...size}
          symbolScale={symbolScale}
          apart={apart}
        />
      )}
      <Drawing
        ref={svg}
        tabIndex={0}
        role="application"
        aria-label={`${onMap ? 'Map' : 'Schematic'}. Arrow keys move the selection, Shift and arrow keys move selected buses, plus and minus zoom, F fits, O opens or closes a switch. Shift and drag selects several.`}
        onKeyDown={keyDown}
        data-picking={picking ? 'yes' : undefined}
        onClick={choose}
        onDoubleClick={(e) => {
          const id = idAt(e)
          if (id) throwSwitch(id)
        }}
        onPointerOver={(e) => hover(idAt(e))}
        onPointerMove={many ? (e) => !e.buttons && hover(idAt(e)) : undefined}
        onPointerLeave={() => hover(null)}
        onPointerDown={press}
      >
        {grid && <Grid view={view} />}
        <g transform={`translate(${view.x} ${view.y}) scale(${view.k})`}>
          <Halo scene={scene} id={open(hovered)} colour={theme.accent} opacity={0.14} />
          {[...(chosen.size ? chosen : [selected])].map((id) => (
            <Halo key={id} scene={scene} id={open(id)} colour={theme.accent} opacity={0.34} />
          ))}
          {picking && <Halo scene={scene} id={picking.from} colour={theme.watch} opacity={0.5} />}
          {!many && (
            <ThemeProvider theme={ground}>
              <Painter
                shapes={onMap ? { ...shapes, hangs: view.k > 0.8 ? shapes.hangs : NO_HANGS } : shapes}
                paint={paint}
                symbolScale={symbolScale}
                apart={apart}
                showFlow={view.k > 0.3}
                animate={prefs.animate && view.k > 0.12}
              />
            </ThemeProvider>
          )}
        </g>
        {folded.marks.length > 0 && (
          <MarksLayer
            folded={folded}
            shapes={shapes}
            paint={paint}
            result={result}
            view={view}
            size={size}
            lit={emphasised}
            labels={labels}
            open={openMark}
            point={point}
          />
        )}
        {onMap && <Places map={backdrop} view={view} labels={labels} buses={shapes.buses} />}
        <Labels labels={labels} movable={chosen.size ? null : selected} onMap={onMap} />
        {!looking && <SchemeLayer scene={scene} view={view} items={switched} build={build} />}
        <Marks shapes={shapes} paint={paint} view={view} />
        {onMap ? <Routes scene={scene} view={view} /> : <BarEnds scene={scene} view={view} start={start} />}
        {moving?.drag.kind === 'box' && <SelectionBox moving={moving} view={view} />}
      </Drawing>
      {picking && <PickHint />}
      {damage && (
        <Damaged role="alert">
          {damage}{' '}
          <button type="button" onClick={() => void repair()}>
            Repair and go on from here
          </button>
        </Damaged>
      )}
      {looking && (
        <Looking role="status">
          {looking.name}: the network at revision {looking.revision}, not to be edited.
          <button type="button" onClick={lookAway}>
            Back to the present
          </button>
        </Looking>
      )}
      {lost && (
        <Looking role="status">
          {lost.closed ? `${lost.name}.` : `After the loss of ${lost.name}, with control.`}
          <button type="button" onClick={() => void endTrial()}>
            Back to the whole network
          </button>
        </Looking>
      )}
      {moment && (
        <Looking role="status">
          {moment.replace('T', ' ')}, by the profiles.
          <button type="button" onClick={() => void endTrial()}>
            Back to the condition
          </button>
        </Looking>
      )}
      {year && (
        <Looking role="status">
          With the demand of {year}.
          <button type="button" onClick={() => void endTrial()}>
            Back to today
          </button>
        </Looking>
      )}
      {onMap && placedBuses(items) === 0 && <NoPlaces />}
      {failed && <Stale role="status">Not solved: what is shown is out of date</Stale>}
      {scene.buses.length === 0 && <Empty />}
      <Detail scene={scene} view={view} />
      <MarksKey folded={folded} />
      {pointed && folded.marks.includes(pointed) && (
        <MarkDetail mark={pointed} folded={folded} paint={paint} result={result} items={items} view={view} />
      )}
      {!inset && <GrowHandles scene={scene} view={view} size={size} more={growMenu} />}
      {!inset && <Legend />}
      {!inset && (
        <Corner>
          <IconButton icon="plus" label="Zoom in" keys="+" onPress={() => zoomBy(1.3)} />
          <IconButton icon="minus" label="Zoom out" keys="−" onPress={() => zoomBy(1 / 1.3)} />
          <IconButton icon="fit" label="Show everything" keys="F" onPress={fitSheet} />
        </Corner>
      )}
    </Frame>
  )
}

/** Items for drawing: the same ones as long as nothing changes that the sheet draws. */
function useDrawn(items: Items): Items {
  const last = useRef(items)
  if (!drawnAlike(last.current, items)) last.current = items
  return last.current
}

/** Stations and feeders of the network as it is switched, while somebody wants them. */
function useStations(wanted: boolean) {
  const { project, wiring } = useParts('project', 'wiring')
  const { data } = useQuery({
    ...feedersQuery(project?.id ?? '', wiring),
    enabled: wanted && !!project,
    placeholderData: (last) => last,
  })
  return data
}

/** The number of the feeder each bus belongs to, while the lens shows feeders. */
function useFeeders(wanted: boolean): ReadonlyMap<string, number> {
  const data = useStations(wanted)
  return useMemo(
    () => new Map((data?.feeders ?? []).flatMap((f, n) => f.buses.map((b) => [b, n] as const))),
    [data],
  )
}

/** The scene with what is too small at this zoom folded into marks. */
function useFolded(scene: Scene, k: number) {
  const data = useStations(scene.buses.length >= LEAST_BUSES)
  const sites = useMemo(() => sitesOf(scene, data?.stations ?? [], data?.feeders ?? []), [scene, data])
  const step = stepAt(sites, k)
  return useMemo(() => fold(scene, sites, step), [scene, sites, step])
}

const STEP = 20

/** Dots to which buses snap. */
function Grid({ view }: { view: View }) {
  const theme = useTheme()
  const step = STEP * view.k * (view.k < 0.5 ? 5 : 1)
  return (
    <g pointerEvents="none">
      <pattern
        id="grid"
        x={view.x % step}
        y={view.y % step}
        width={step}
        height={step}
        patternUnits="userSpaceOnUse"
      >
        <circle cx={0.7} cy={0.7} r={0.7} fill={theme.dead} />
      </pattern>
      <rect width="100%" height="100%" fill="url(#grid)" data-testid="grid" />
    </g>
  )
}

/** Handles at both ends of the selected bar. */
function BarEnds(props: {
  scene: Scene
  view: View
  start: (event: React.PointerEvent, drag: Drag, at: Point) => void
}) {
  const theme = useTheme()
  const { selected, chosen } = useParts('selected', 'chosen')
  const bus = chosen.size ? undefined : props.scene.busById.get(selected ?? '')
  if (!bus) return null
  return (
    <g>
      {([-1, 1] as const).map((end) => {
        const at = bus.upright
          ? { x: bus.x, y: bus.y + end * bus.half }
          : { x: bus.x + end * bus.half, y: bus.y }
        const p = toScreen(props.view, at)
        return (
          <rect
            key={end}
            data-handle={end}
            x={p.x - 4}
            y={p.y - 4}
            width={8}
            height={8}
            fill={theme.panel}
            stroke={theme.accent}
            style={{ cursor: bus.upright ? 'ns-resize' : 'ew-resize' }}
            onPointerDown={(e) => {
              e.stopPropagation()
              props.start(e, { kind: 'stretch', id: bus.id, end }, at)
            }}
          />
        )
      })}
    </g>
  )
}

function SelectionBox({ moving, view }: { moving: Moving; view: View }) {
  const theme = useTheme()
  if (moving.drag.kind !== 'box') return null
  const b = boxFrom(moving.drag.from, moving.dx, moving.dy)
  const p = toScreen(view, { x: b.minX, y: b.minY })
  return (
    <rect
      x={p.x}
      y={p.y}
      width={(b.maxX - b.minX) * view.k}
      height={(b.maxY - b.minY) * view.k}
      fill={theme.accent}
      fillOpacity={0.08}
      stroke={theme.accent}
      strokeDasharray="4 3"
      pointerEvents="none"
    />
  )
}

const Hint = styled.div`
  position: absolute; top: 10px; left: 50%; transform: translateX(-50%); padding: 5px 14px; border-radius: 15px; z-index: 3;
  background: ${(p) => p.theme.panel}; color: ${(p) => p.theme.ink}; border: 1px solid ${(p) => p.theme.watch};
`

function PickHint() {
  const picking = useBench((s) => s.picking)
  const from = useBench((s) => s.items.get(picking?.from ?? '')?.name)
  return (
    <Hint role="status">
      {picking?.label} from {from}: click the other bus, or type / and its name. Esc leaves it.
    </Hint>
  )
}

/** Boxes of branches: minX, minY, maxX, maxY of each, kept with their list. */
const boxes = new WeakMap<readonly BranchShape[], Float64Array>()

function boxesOf(branches: readonly BranchShape[]): Float64Array {
  const known = boxes.get(branches)
  if (known) return known
  const found = new Float64Array(4 * branches.length)
  branches.forEach((b, n) => {
    const box = boxOf(b.stub ? [...b.points, ...b.stub] : b.points)
    if (box) found.set([box.minX, box.minY, box.maxX, box.maxY], 4 * n)
  })
  boxes.set(branches, found)
  return found
}

/** Only what can be seen, with room for symbols and labels around it. */
function visible(scene: Shapes, view: View, size: { width: number; height: number }): Shapes {
  const margin = 60 + 60 / view.k
  const minX = -view.x / view.k - margin
  const minY = -view.y / view.k - margin
  const maxX = (size.width - view.x) / view.k + margin
  const maxY = (size.height - view.y) / view.k + margin
  const near = (p: Point, reach = 0) =>
    p.x > minX - reach && p.x < maxX + reach && p.y > minY - reach && p.y < maxY + reach
  const box = boxesOf(scene.branches)
  const crosses = (n: number) =>
    box[4 * n + 2]! > minX && box[4 * n]! < maxX && box[4 * n + 3]! > minY && box[4 * n + 1]! < maxY
  return {
    buses: scene.buses.filter((b) => near(b, b.half)),
    branches: scene.branches.filter((_, n) => crosses(n)),
    hangs: scene.hangs.filter((h) => near(h.at)),
  }
}

/** Bring the selection into view when somebody outside the sheet asks for it. */
function useReveal(
  reveal: number,
  selected: string | null,
  scene: Scene,
  view: View,
  size: { width: number; height: number },
  go: (view: View) => void,
) {
  const done = useRef(reveal)
  useEffect(() => {
    if (done.current === reveal || !selected || !size.width) return
    done.current = reveal
    const at = scene.centre.get(selected)
    if (!at) return
    const p = toScreen(view, at)
    const inside = p.x > 80 && p.x < size.width - 80 && p.y > 60 && p.y < size.height - 90
    const close = view.k >= 0.6
    if (!inside || !close) go(centred({ ...view, k: Math.max(view.k, 0.9) }, at, size.width, size.height))
  }, [reveal, selected, scene, view, size, go])
}

/** A small sheet follows the selection; made large again, it shows what it showed before. */
function useInset(
  inset: boolean,
  selected: string | null,
  scene: Scene,
  view: View,
  size: { width: number; height: number },
  go: (view: View) => void,
) {
  const before = useRef<View | null>(null)
  const now = useRef(view)
  now.current = view
  useEffect(() => {
    if (!inset || !size.width) return
    before.current ??= now.current
    const at = selected ? scene.centre.get(selected) : undefined
    if (at) go(centred({ ...now.current, k: INSET_ZOOM }, at, size.width, size.height))
    else if (scene.box) go(fitView(scene.box, size.width, size.height))
  }, [inset, selected, scene, size, go])
  useEffect(() => {
    if (inset || !before.current) return
    go(before.current)
    before.current = null
  }, [inset, go])
}

/** Bring all that is selected into view, when that is asked for and some of it is outside. */
function useSpan(
  scene: Scene,
  view: View,
  size: { width: number; height: number },
  go: (view: View) => void,
) {
  const span = useBench((s) => s.span)
  const done = useRef(span)
  useEffect(() => {
    if (done.current === span || !size.width) return
    done.current = span
    const box = boxOf(selection().flatMap((id) => scene.centre.get(id) ?? []))
    if (!box) return
    const [low, high] = [
      { x: box.minX, y: box.minY },
      { x: box.maxX, y: box.maxY },
    ].map((p) => toScreen(view, p)) as [Point, Point]
    const inside = low.x > 40 && low.y > 40 && high.x < size.width - 40 && high.y < size.height - 70
    if (!inside || view.k < 0.5) go(fitView(box, size.width, size.height))
  }, [span, scene, view, size, go])
}

function Halo({
  scene,
  id,
  colour,
  opacity,
}: {
  scene: Scene
  id: string | null
  colour: string
  opacity: number
}) {
  if (!id) return null
  const bus = scene.busById.get(id)
  const d = bus
    ? bus.upright
      ? `M${bus.x} ${bus.y - bus.half}V${bus.y + bus.half}`
      : `M${bus.x - bus.half} ${bus.y}H${bus.x + bus.half}`
    : pathOf([...scene.branches, ...scene.hangs].find((s) => s.id === id)?.points ?? [])
  const plain = scene.branches.some((b) => b.id === id && b.kind === 'line')
  const at = bus || plain ? undefined : scene.centre.get(id)
  return (
    <g
      stroke={colour}
      strokeOpacity={opacity}
      fill="none"
      strokeLinecap="round"
      pointerEvents="none"
      data-halo={id}
    >
      <path d={d} strokeWidth={11} vectorEffect="non-scaling-stroke" />
      {at && <circle cx={at.x} cy={at.y} r={19} fill={colour} fillOpacity={opacity * 0.6} stroke="none" />}
    </g>
  )
}

function Labels(props: { labels: readonly Label[]; movable: string | null; onMap: boolean }) {
  const theme = useTheme()
  const { labels, movable, onMap } = props
  const ground = onMap ? theme.land : theme.panel
  return (
    <g paintOrder="stroke" stroke={ground} strokeWidth={3.5} strokeLinejoin="round">
      {labels.map(
        (l) =>
          l.backed &&
          !onMap && (
            <rect
              key={`ground ${l.key}`}
              x={l.box.minX}
              y={l.box.minY}
              width={l.box.maxX - l.box.minX}
              height={l.box.maxY - l.box.minY}
              rx={3}
              fill={theme.panel}
              stroke="none"
              pointerEvents="none"
            />
          ),
      )}
      {labels.map((l) => (
        <text
          key={l.key}
          x={l.x}
          y={l.y}
          textAnchor={l.anchor}
          fill={inkOf(theme, l)}
          data-of={l.of}
          data-label={l.key === movable ? l.key : undefined}
          style={{ cursor: l.key === movable ? 'move' : 'pointer' }}
        >
          {l.name && (
            <tspan className="name" fill={theme.ink} data-label={l.key === movable ? l.key : undefined}>
              {l.name}
            </tspan>
          )}
          {l.name && l.value ? ' ' : ''}
          {l.value}
        </text>
      ))}
    </g>
  )
}

const MARK_ROOM = 15
const BESIDE_NODE = { dx: 6, dy: -17 } as const
const BEFORE_BAR = { dx: -21, dy: -7 } as const
const BESIDE_SYMBOL = { dx: -36, dy: -8 } as const
const BESIDE_LINE = { dx: -24, dy: -8 } as const
const BELOW_LINE = { dx: -9, dy: 5 } as const

interface Spot {
  readonly id: string
  readonly x: number
  readonly y: number
  readonly finding: Finding
}

/** Where marks go: breaches first, and none on top of another. */
function markSpots(shapes: Shapes, paint: Paint, view: View): Spot[] {
  const spots: Spot[] = []
  const add = (id: string, at: Point, { dx, dy }: { dx: number; dy: number }) => {
    const finding = paint.finding(id)
    if (!finding || (view.k < 0.3 && finding.severity !== 'breach')) return
    const p = toScreen(view, at)
    spots.push({ id, x: p.x + dx, y: p.y + dy, finding })
  }
  for (const b of shapes.branches)
    add(b.id, b.at, b.kind !== 'line' ? BESIDE_SYMBOL : b.vertical ? BESIDE_LINE : BELOW_LINE)
  for (const b of shapes.buses)
    add(b.id, b.upright ? b : { x: b.x - b.half, y: b.y }, b.upright ? BESIDE_NODE : BEFORE_BAR)
  spots.sort((a, b) => b.finding.excess - a.finding.excess)
  const kept: Spot[] = []
  for (const s of spots) {
    if (!kept.some((t) => Math.abs(t.x - s.x) < MARK_ROOM && Math.abs(t.y - s.y) < MARK_ROOM)) kept.push(s)
  }
  return kept
}

/** A mark at everything that has a finding, whatever the zoom. */
function Marks({ shapes, paint, view }: { shapes: Shapes; paint: Paint; view: View }) {
  const theme = useTheme()
  const scale = view.k < 0.5 ? 0.65 : 0.8
  return (
    <g pointerEvents="none">
      {markSpots(shapes, paint, view).map(({ id, x, y, finding }) => (
        <g
          key={id}
          data-mark={id}
          transform={`translate(${x} ${y}) scale(${scale})`}
          fill={finding.severity === 'breach' ? theme.breach : theme.watch}
        >
          <MarkShape severity={finding.severity} direction={finding.direction} />
        </g>
      ))}
    </g>
  )
}

function Canvas(props: {
  shapes: Shapes
  paint: Paint
  view: View
  width: number
  height: number
  symbolScale: number
  apart: number
}) {
  const theme = useTheme()
  const ref = useRef<HTMLCanvasElement>(null)
  const { shapes, paint, view, width, height, symbolScale, apart } = props
  useEffect(() => {
    const canvas = ref.current
    const context = canvas?.getContext('2d')
    if (!canvas || !context) return
    const ratio = devicePixelRatio || 1
    canvas.width = width * ratio
    canvas.height = height * ratio
    const look = { palette: theme, symbolScale, apart, showFlow: view.k > 0.3 }
    paintCanvas(context, shapes, paint, view, { width, height }, look)
  }, [shapes, paint, view, width, height, theme, symbolScale, apart])
  return <canvas ref={ref} />
}

const Middle = styled.div`
  position: absolute; inset: 0; display: grid; place-content: center; text-align: center; color: ${(p) => p.theme.quiet}; pointer-events: none;
`
const Empty = () => (
  <Middle>
    <p>Nothing on the sheet. Undo brings back what was removed,</p>
    <p>or open a file from the project menu.</p>
  </Middle>
)

const NoPlaces = () => (
  <Middle style={{ pointerEvents: 'auto' }}>
    <p>No bus has a place on the map yet.</p>
    <p>
      <button type="button" onClick={() => void placeAs('map')}>
        Lay the schematic on the map
      </button>
    </p>
  </Middle>
)
