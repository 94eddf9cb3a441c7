/** Labels in screen coordinates: which ones there is room for, the important ones first. */

import { fixed, power } from '../design/format'
import type { Palette } from '../design/tokens'
import type { LabelSet, Units } from '../model/prefs'
import { eachOf } from '../model/quantities'
import { figure, type Result } from '../model/results'
import { shown, shownUnit } from '../model/units'
import type { Box, Point, View } from './geometry'
import { overlaps, toScreen } from './geometry'
import type { Paint } from './paint'
import type { BranchShape, BusShape, HangShape, Scene } from './scene'

export interface Label {
  readonly key: string
  /** The element it is about. */
  readonly of: string
  readonly x: number
  readonly y: number
  readonly anchor: 'start' | 'middle' | 'end'
  readonly name: string
  readonly value: string
  readonly box: Box
  readonly severity: string | undefined
  /** A line runs behind it: it stands on a ground of its own, that the line ends at. */
  readonly backed?: boolean
}

/** The colour a label is written in: that of its finding, where it has one. */
export const inkOf = (palette: Palette, label: Label) =>
  label.severity === 'breach' ? palette.breach : label.severity === 'watch' ? palette.watchInk : palette.quiet

interface Spot {
  readonly x: number
  readonly y: number
  readonly anchor: 'start' | 'middle' | 'end'
}

interface Wish extends Spot {
  readonly id: string
  /** The element it is about, where that is not its id. */
  readonly of?: string
  /** Where else it may stand, when a line would strike through it at its first place. */
  readonly elsewhere?: readonly Spot[]
  readonly name: string
  readonly value: string
  readonly weight: number
  readonly severity?: string
}

/** Width of a letter of a label, px. */
export const CHAR = 6.7
const HEIGHT = 14
const MOST = 400

/** Zoom from which each kind of label is worth its room. */
const FROM = { bar: 0, nodeValue: 0.75, nodeName: 0.85, symbol: 0.5, section: 1.05, hang: 0.95 } as const

/** What the labels say: which figures, and in which units. */
export interface Wording {
  readonly set: LabelSet
  readonly units: Units
}

/** Figures of one element as a label has them. */
function figures(
  result: Result | null,
  table: string,
  id: string,
  names: readonly string[],
  { units }: Wording,
): string {
  const found = result?.tables[table]
  return names
    .map((name) => {
      const value = figure(found, id, name)
      const column = found?.columns.find((c) => c.name === name)
      if (value === undefined || !column) return ''
      // Active power alone keeps the unit that suits its size, unless kW are wanted throughout.
      if (column.unit === 'MW' && units.power === 'MW' && units.marks && !units.digits && table !== 'buses')
        return power(name.startsWith('from_') ? Math.abs(value) : value)
      const text = shown(value, column.unit, Math.min(column.digits ?? 2, 3), units)
      const bare = !units.marks || (names.length === 1 && column.unit === 'p.u.' && units.voltage === 'p.u.')
      return bare ? text : `${text} ${shownUnit(column.unit, units)}`.trim()
    })
    .filter(Boolean)
    .join(' ')
}

const declaredAs = (result: Result | null, table: string, name: string) =>
  result?.quantities?.find((q) => q.table === table && q.name === name)

/** Columns of one end of a branch for the quantities of a label set. */
const atEnd = (names: readonly string[], end: 'from' | 'to', result: Result | null) =>
  names.map((n) => (end === 'to' && declaredAs(result, 'branches', n)?.far) || n)

const ofEnd = (name: string, result: Result | null) => !!declaredAs(result, 'branches', name)?.far

/** A quantity of a bus or branch in each phase, where the result is looked at so. */
function eachPhase(result: Result | null, table: string, id: string, name: string, digits: number): string {
  const found = result?.tables[table]
  const declared = declaredAs(result, table, name)
  if (!found || !declared) return ''
  return eachOf(declared, found)
    .flatMap(([part, column]) => {
      const v = part === 'N' || part.length > 1 ? undefined : figure(found, id, column)
      return v === undefined || (table === 'branches' && v === 0) ? [] : [`${part} ${fixed(v, digits)}`]
    })
    .join(' ')
}

const busFigures = (result: Result | null, id: string, words: Wording) => {
  const phases = words.set.buses.includes('voltage_pu') && words.units.voltage !== 'kV'
  const each = phases ? eachPhase(result, 'buses', id, 'voltage_pu', 3) : ''
  if (each) return each
  const names = words.set.buses.map((n) =>
    n === 'voltage_pu' && words.units.voltage === 'kV' ? 'voltage_kv' : n,
  )
  return figures(result, 'buses', id, names, words)
}

/** Both ends of a branch: what goes in at each, near to where it goes in. */
function endWishes(branch: BranchShape, result: Result | null, view: View, words: Wording): Wish[] {
  const names = words.set.branches.filter((n) => ofEnd(n, result))
  const first = branch.points[0]
  const last = branch.points.at(-1)
  if (!names.length || !first || !last || branch.length * view.k < 90) return []
  return (['from', 'to'] as const).flatMap((end) => {
    const [a, b] = end === 'from' ? [first, branch.points[1]] : [last, branch.points.at(-2)]
    if (!a || !b) return []
    const far = Math.hypot(b.x - a.x, b.y - a.y) || 1
    const step = Math.min(46 / view.k, far / 3)
    const p = toScreen(view, { x: a.x + ((b.x - a.x) * step) / far, y: a.y + ((b.y - a.y) * step) / far })
    const value = figures(result, 'branches', branch.id, atEnd(names, end, result), words)
    const across = Math.abs(b.x - a.x) > Math.abs(b.y - a.y)
    const at = across
      ? { x: p.x, y: p.y - 6, anchor: 'middle' as const }
      : { x: p.x + 7, y: p.y + 4, anchor: 'start' as const }
    return value ? [{ id: `${branch.id} ${end}`, of: branch.id, ...at, name: '', value, weight: 35 }] : []
  })
}

/** What there is to label: all of a scene, or what of it can be seen. */
export type Labelled = Pick<Scene, 'buses' | 'branches' | 'hangs' | 'labelMoves'>

export function labelsFor(
  scene: Labelled,
  result: Result | null,
  words: Wording,
  paint: Paint,
  view: View,
  width: number,
  height: number,
  emphasised: ReadonlySet<string>,
  others: readonly Box[] = [],
): Label[] {
  const inside = (x: number, y: number) => x > -120 && x < width + 120 && y > -40 && y < height + 40
  const wishes: Wish[] = []
  const { k } = view
  // One or two stand whatever they cover; of many only those there is room for.
  const first = emphasised.size > 2 ? 900 : 1000
  const symbolScale = Math.max(1, Math.min(2.2, 0.7 / k))
  for (const bus of scene.buses) {
    const p = toScreen(view, bus)
    if (!inside(p.x, p.y)) continue
    const strong = emphasised.has(bus.id)
    const value = busFigures(result, bus.id, words)
    const busName = words.set.names || strong ? bus.name : ''
    const severity = paint.finding(bus.id)?.severity
    if (!bus.upright) {
      const share = { severity, name: busName, value: paint.live(bus.id) ? value : 'dead' }
      const y = p.y - 9
      const x = Math.max(p.x - bus.half * k, bus.nameFrom * k + view.x)
      wishes.push({
        ...share,
        id: bus.id,
        x,
        y,
        anchor: 'start',
        elsewhere: [
          { x: p.x + bus.half * k, y, anchor: 'end' },
          // Beyond the mark of a finding, which stands there.
          { x: p.x - bus.half * k - (severity ? 26 : 6), y: p.y + 4, anchor: 'end' },
          { x: p.x + bus.half * k + 6, y: p.y + 4, anchor: 'start' },
          // Below the bar, and one line higher than usual.
          { x: p.x - bus.half * k, y: p.y + 17, anchor: 'start' },
          { x: p.x + bus.half * k, y: p.y + 17, anchor: 'end' },
          { x, y: y - 13, anchor: 'start' },
          { x: p.x + bus.half * k, y: y - 13, anchor: 'end' },
        ],
        weight: strong ? first : 100 + Math.log2(1 + bus.kv) * 10,
      })
    } else if (k >= FROM.nodeValue || strong) {
      const name = k >= FROM.nodeName || strong ? busName : ''
      const aside = bus.topTaken
      const share = {
        id: bus.id,
        severity,
        name,
        value: paint.live(bus.id) ? value : 'dead',
        weight: strong ? first : 60,
      }
      if (aside) wishes.push({ ...share, x: p.x - 7, y: p.y - bus.half * k - 2, anchor: 'end' })
      else {
        const y = p.y - bus.half * k - 7
        const elsewhere: Spot[] = [
          { x: p.x + 10, y, anchor: 'end' },
          { x: p.x - 10, y, anchor: 'start' },
        ]
        wishes.push({ ...share, x: p.x, y, anchor: 'middle', elsewhere })
      }
    }
  }
  for (const branch of scene.branches) {
    for (const end of k >= FROM.nodeName ? branch.stubNames : []) {
      const q = toScreen(view, end.at)
      if (!inside(q.x, q.y)) continue
      const name = `open to ${end.name}`
      wishes.push({
        id: `${branch.id} ${name}`,
        of: branch.id,
        x: q.x + 7,
        y: q.y,
        anchor: 'start',
        name: '',
        value: name,
        weight: 45,
      })
    }
    const symbol = branch.kind !== 'line'
    const strong = emphasised.has(branch.id)
    if (!strong && k < (symbol ? FROM.symbol : FROM.section) && !(branch.length * k > 150)) continue
    const p = toScreen(view, branch.at)
    if (!inside(p.x, p.y)) continue
    const both = words.set.bothEnds && branch.kind !== 'switch'
    if (both) wishes.push(...endWishes(branch, result, view, words))
    const wanted = words.set.branches.filter((n) => !(both && ofEnd(n, result)))
    const short = wanted.filter((n) => !ofEnd(n, result) || n === 'from_current_a')
    const load = branchFigures(result, branch.id, short, words)
    const whole = branchFigures(result, branch.id, wanted, words)
    const severity = paint.finding(branch.id)?.severity
    if (branch.kind === 'switch') {
      if (k < FROM.nodeName && !strong) continue
      wishes.push({
        id: branch.id,
        x: p.x + 12,
        y: p.y + 4,
        anchor: 'start',
        name: branch.name,
        value: branch.open ? 'open' : '',
        weight: 20,
      })
    } else if (symbol) {
      wishes.push({
        id: branch.id,
        x: p.x + 19 * symbolScale * k,
        y: p.y + 4,
        anchor: 'start',
        elsewhere: [{ x: p.x - 19 * symbolScale * k, y: p.y + 4, anchor: 'end' }],
        name: words.set.names || strong ? branch.name : '',
        value: load,
        weight: strong ? first : 80,
        severity,
      })
    } else if (whole || strong) {
      const room = branch.length * k
      const value = room > 60 + whole.length * CHAR * 0.8 ? whole : load
      const strands = paint.strands(branch.id).includes('|') ? 5 : 0
      const [at, ...elsewhere] = alongside(branch, p, k, strong, strands)
      if (!at) continue
      wishes.push({
        id: branch.id,
        ...at,
        elsewhere,
        name: strong ? branch.name : '',
        value,
        weight: strong ? first : 30 + Math.min(branch.length / 20, 29),
        severity,
      })
    }
  }
  if (k >= FROM.hang) {
    for (const hang of scene.hangs) {
      const p = toScreen(view, hang.at)
      if (!inside(p.x, p.y)) continue
      const value = hangFigures(result, hang, words)
      const y = p.y + (hang.up ? -10 * k : 9 * k) + 4
      wishes.push({
        id: hang.id,
        x: p.x + (8 * hang.size + 4) * k,
        y,
        anchor: 'start',
        name: emphasised.has(hang.id) ? hang.name : '',
        value,
        weight: emphasised.has(hang.id) ? first : 40,
      })
    }
  }
  // Labels keep off upright bars and, where they have any themselves, off what hangs below buses.
  const bars = [...others, ...scene.buses.flatMap((b) => (b.upright ? [barBox(b, view)] : []))]
  for (const branch of scene.branches) {
    if (branch.kind !== 'line' || branch.vertical || !paint.finding(branch.id)) continue
    // The mark of a finding stands below the middle of its line.
    const p = toScreen(view, branch.at)
    if (inside(p.x, p.y)) bars.push({ minX: p.x - 12, maxX: p.x + 10, minY: p.y + 3, maxY: p.y + 18 })
  }
  if (k >= FROM.hang)
    for (const hang of scene.hangs) {
      const box = hangBox(hang, view)
      if (inside(box.minX, box.minY)) bars.push(box)
    }
  for (const w of wishes) {
    const moved = movedBy(scene, w.id)
    if (!moved) continue
    const at = { x: w.x + moved.x * k, y: w.y + moved.y * k }
    Object.assign(w, { ...at, elsewhere: undefined, weight: Math.max(w.weight, 500) })
  }
  return place(wishes, bars, wiresOf(scene, view, width, height, false, marksOf(scene, paint, view)))
}

/** Where the marks of findings stand before bars and beside symbols. */
function marksOf(scene: Labelled, paint: Paint, view: View): Box[] {
  const before = (at: Point, right: number): Box => {
    const p = toScreen(view, at)
    return { minX: p.x - right - 17, maxX: p.x - right, minY: p.y - 6, maxY: p.y + 3 }
  }
  return [
    ...scene.buses.flatMap((b) =>
      b.upright || !paint.finding(b.id) ? [] : [before({ x: b.x - b.half, y: b.y }, 5)],
    ),
    ...scene.branches.flatMap((b) => (b.kind === 'line' || !paint.finding(b.id) ? [] : [before(b.at, 20)])),
  ]
}

/** The symbol of something at one bus, narrower than the gap that its own label leaves. */
function hangBox(hang: HangShape, view: View): Box {
  const p = toScreen(view, hang.at)
  const half = 8 * view.k * hang.size
  const tall = 16 * view.k * hang.size
  return {
    minX: p.x - half,
    maxX: p.x + half,
    minY: hang.up ? p.y - tall : p.y,
    maxY: hang.up ? p.y : p.y + tall,
  }
}

/** Places beside the longest piece of a line: at its middle first, then towards its ends, on one side and the other. */
function alongside(branch: BranchShape, p: Point, k: number, strong: boolean, off: number): Spot[] {
  const shares = [0, -0.22, 0.22, -0.36, 0.36].map((share) => share * branch.length * k)
  if (branch.vertical)
    return shares.flatMap((d): Spot[] => [
      { x: p.x + 7 + off, y: p.y + 4 + d, anchor: 'start' },
      { x: p.x - 7 - off, y: p.y + 4 + d, anchor: 'end' },
    ])
  const [near, far] = strong ? [24 + off, -6 - off] : [-6 - off, 17 + off]
  return shares.flatMap((d): Spot[] => [
    { x: p.x + d, y: p.y + near, anchor: 'middle' },
    { x: p.x + d, y: p.y + far, anchor: 'middle' },
  ])
}

const SQUARE = 80

/** What a box would cover: nothing (0), a piece of a line (1), a mark (1.5), a symbol or the edge (2); slanted lines are looked at
only where that is asked for. */
export function wiresOf(
  scene: Pick<Scene, 'branches' | 'hangs'>,
  view: View,
  width: number,
  height: number,
  slanted = false,
  marks: readonly Box[] = [],
): (box: Box) => number {
  const squares = new Map<string, (Box & { grade: number })[]>()
  const each = (box: Box, use: (key: string) => void) => {
    for (let i = Math.floor(box.minX / SQUARE); i <= Math.floor(box.maxX / SQUARE); i++)
      for (let j = Math.floor(box.minY / SQUARE); j <= Math.floor(box.maxY / SQUARE); j++) use(`${i},${j}`)
  }
  const put = (box: Box, grade = 1) =>
    each(box, (key) => {
      const there = squares.get(key)
      if (there) there.push({ ...box, grade })
      else squares.set(key, [{ ...box, grade }])
    })
  /** A slanted piece as a row of small boxes. */
  const aslant = (a: Point, b: Point) => {
    const parts = Math.min(Math.ceil(Math.hypot(b.x - a.x, b.y - a.y) / 6), 400)
    for (let i = 0; i < parts; i++) {
      const x = a.x + ((b.x - a.x) * (i + 0.5)) / parts
      const y = a.y + ((b.y - a.y) * (i + 0.5)) / parts
      if (x > -120 && x < width + 120 && y > -40 && y < height + 40)
        put({ minX: x - 2, maxX: x + 2, minY: y - 2, maxY: y + 2 })
    }
  }
  const add = (points: readonly Point[]) => {
    for (let n = 1; n < points.length; n++) {
      const [a, b] = [toScreen(view, points[n - 1]!), toScreen(view, points[n]!)]
      if (Math.abs(a.x - b.x) > 1 && Math.abs(a.y - b.y) > 1) {
        if (slanted) aslant(a, b)
        continue
      }
      const box = {
        minX: Math.max(Math.min(a.x, b.x) - 1, -120),
        maxX: Math.min(Math.max(a.x, b.x) + 1, width + 120),
        minY: Math.max(Math.min(a.y, b.y) - 1, -40),
        maxY: Math.min(Math.max(a.y, b.y) + 1, height + 40),
      }
      put(box)
    }
  }
  const scale = Math.max(1, Math.min(2.2, 0.7 / view.k))
  for (const b of scene.branches) {
    for (const piece of [b.points, b.stub, b.leg]) if (piece) add(piece)
    if (b.kind === 'line' || b.kind === 'switch') continue
    const p = toScreen(view, b.at)
    const [half, tall] = [9 * view.k * scale, 14 * view.k * scale]
    put({ minX: p.x - half, maxX: p.x + half, minY: p.y - tall, maxY: p.y + tall }, 2)
  }
  for (const h of scene.hangs) {
    add(h.points)
    put(hangBox(h, view), 2)
  }
  for (const box of marks) put(box, 1.5)
  return (box) => {
    let worst = box.minX < 0 || box.maxX > width ? 2 : 0
    each(box, (key) => {
      for (const there of squares.get(key) ?? [])
        if (there.grade > worst && overlaps(there, box)) worst = there.grade
    })
    return worst
  }
}

const branchFigures = (result: Result | null, id: string, names: readonly string[], words: Wording) => {
  const loading = names.map((n) => (n === 'loading_pct' ? ['loading_pct', 0] : [n, 1]) as [string, number])
  return loading
    .map(([n, digits]) =>
      digits === 0
        ? percent(figure(result?.tables.branches, id, n), words.units.digits)
        : figures(result, 'branches', id, atEnd([n], 'from', result), words),
    )
    .filter(Boolean)
    .join(' ')
}

const percent = (value: number | undefined, more: number) =>
  value === undefined ? '' : `${fixed(value, Math.max(0, more))} %`

/** A capacitor is read by its reactive power. */
function hangFigures(result: Result | null, hang: HangShape, words: Wording): string {
  const names = words.set.injections
  if ((hang.kind === 'shunt' || hang.kind === 'filter') && names.includes('active_power_mw'))
    return figures(result, 'injections', hang.id, ['reactive_power_mvar'], words)
  return figures(result, 'injections', hang.id, names, words)
}

/** How far somebody has moved a label; nothing where it stands by itself. */
function movedBy(scene: Labelled, id: string): Point | undefined {
  const by = scene.labelMoves.get(id)
  return by && (by.x || by.y) ? by : undefined
}

function barBox(bus: BusShape, view: View): Box {
  const p = toScreen(view, bus)
  const half = bus.half * view.k
  return { minX: p.x - 4, maxX: p.x + 4, minY: p.y - half, maxY: p.y + half }
}

function textBox(w: Wish, name: string): Box {
  const length = (name.length + w.value.length + (name && w.value ? 1 : 0)) * CHAR
  const left = w.anchor === 'start' ? w.x : w.anchor === 'end' ? w.x - length : w.x - length / 2
  return { minX: left - 3, maxX: left + length + 3, minY: w.y - HEIGHT + 3, maxY: w.y + 4 }
}

type Struck = (box: Box) => number
type Free = (w: Wish, box: Box) => boolean
interface Placed {
  readonly wish: Wish
  readonly spot: Found
}
type Found = Spot & { name: string; value: string; box: Box; grade: number; backed?: boolean }

/** The heaviest first; the others where they cover neither a label nor a bus, and where no line strikes through them. */
function place(wishes: Wish[], bars: readonly Box[], struck: Struck): Label[] {
  wishes.sort((a, b) => b.weight - a.weight)
  const taken: Placed[] = []
  const besides =
    (some: readonly Placed[]): Free =>
    (w, box) =>
      w.weight >= 1000 ||
      (!some.some((t) => overlaps(t.spot.box, box)) &&
        (w.weight >= 100 || !bars.some((b) => overlaps(b, box))))
  const free = besides(taken)
  for (const w of wishes) {
    if (taken.length >= MOST) break
    const found = spotFor(w, free, struck)
    if (!found) continue
    if (found.grade < 2 || !makeRoom(w, taken, besides, struck)) taken.push({ wish: w, spot: found })
  }
  return taken.map(({ wish: w, spot: { grade: _, ...spot } }) => ({
    key: w.id,
    of: w.of ?? w.id,
    severity: w.severity,
    ...spot,
  }))
}

/** Rather than hide a symbol, a label takes the place of another that can do with less or stand elsewhere. */
function makeRoom(
  w: Wish,
  taken: Placed[],
  besides: (some: readonly Placed[]) => Free,
  struck: Struck,
): boolean {
  for (const { text, at } of ways(w)) {
    const box = textBox({ ...w, ...at, value: text.value }, text.name)
    if (struck(box)) continue
    const other = taken.find((t) => overlaps(t.spot.box, box))
    if (!other || other.wish.weight >= 500) continue
    const rest = taken.filter((t) => t !== other)
    if (!besides(rest)(w, box)) continue
    const mine = { wish: w, spot: { ...at, ...text, box, grade: 0 } }
    const moved = spotFor(other.wish, besides([...rest, mine]), struck)
    if (!moved || moved.grade > other.spot.grade) continue
    taken.splice(taken.indexOf(other), 1, { wish: other.wish, spot: moved })
    taken.push(mine)
    return true
  }
  return false
}

/** Every way to write a label: of a bar at last the name alone, of others the figure alone; each at all of its places. */
function* ways(w: Wish) {
  const whole = { name: w.name, value: w.value }
  const part = w.weight >= 100 ? { name: w.name, value: '' } : { name: '', value: w.value }
  for (const text of w.name && w.value ? [whole, part] : [whole])
    for (const { x, y, anchor } of [w, ...(w.elsewhere ?? [])]) yield { text, at: { x, y, anchor } }
}

/** Where a label stands and what of it, where there is no room for all. */
function spotFor(w: Wish, free: Free, struck: Struck): Found | null {
  const bar = w.weight >= 100
  let behind: Found | null = null
  for (const { text, at } of ways(w)) {
    const box = textBox({ ...w, ...at, value: text.value }, text.name)
    if (!free(w, box)) continue
    const grade = w.elsewhere ? struck(box) : 0
    if (!grade) return { ...at, ...text, box, grade }
    // What hides least: the name of a bar alone.
    if (!behind || grade < behind.grade || (grade === behind.grade && bar && !text.value && behind.value))
      behind = { ...at, ...text, box, grade }
  }
  // A bar, what is chosen, a node or a finding stays, on a ground of its own; what is one of many may go.
  return behind && (w.weight >= 60 || w.severity) ? { ...behind, backed: true } : null
}
