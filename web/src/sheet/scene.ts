/** From items to shapes in world coordinates: bars, routed branches, what hangs from a bus. */
import { busesOf, type Item, type Items, number, text } from '../model/items'
import { type Box, boxOf, longestPiece, type Point } from './geometry'
import { hangSymbols } from './symbols'

export interface BusShape {
  readonly id: string
  readonly name: string
  readonly x: number
  readonly y: number
  readonly half: number
  readonly upright: boolean
  readonly kv: number
  /** How far its label has been moved, in sheet units. */
  readonly label: Point
  /** Something leaves at the upper or lower end: labels keep clear of it. */
  topTaken: boolean
  /** Right edge of what stands up from the left part of a bar; the name begins after it. */
  nameFrom: number
  bottomTaken: boolean
}

export interface BranchShape {
  readonly id: string
  readonly name: string
  readonly kind: string
  /** Ids of the buses it joins. */
  readonly buses: readonly string[]
  readonly device: string
  readonly open: boolean
  readonly points: readonly Point[]
  /** An open tie between distant buses is drawn as a stub at each end: the second one. */
  readonly stub: readonly Point[] | null
  /** Names the far end at each stub. */
  readonly stubNames: readonly { at: Point; name: string }[]
  /** Where the symbol and the label stand. */
  readonly at: Point
  readonly vertical: boolean
  /** The piece that carries the mark runs from the from bus to the to bus rightwards or downwards. */
  readonly forward: boolean
  readonly length: number
  /** The third winding's way from the symbol to its bus. */
  readonly leg: readonly Point[] | null
  readonly size: number
  readonly flipped: boolean
  readonly label: Point
}

export interface HangShape {
  readonly id: string
  readonly name: string
  readonly kind: string
  readonly device: string
  readonly bus: string
  readonly points: readonly Point[]
  readonly at: Point
  readonly up: boolean
  readonly size: number
  readonly label: Point
}

export interface Scene {
  readonly buses: readonly BusShape[]
  readonly branches: readonly BranchShape[]
  readonly hangs: readonly HangShape[]
  readonly busById: ReadonlyMap<string, BusShape>
  readonly box: Box | null
  /** Where each element is, for revealing and for moving the selection by keys. */
  readonly centre: ReadonlyMap<string, Point>
  /** Labels that have been moved, and by how much. */
  readonly labelMoves: ReadonlyMap<string, Point>
}

const GAP = 26
const STUB = 30
/** How far above a row a branch runs that passes over its nodes: clear of their names. */
const OVER_ROW = 30

/** One connection at a bus, waiting for its place on the bar. */
interface Port {
  readonly item: Item
  /** What it leads to: the other bus, or nothing for what hangs here. */
  readonly other: BusShape | null
  readonly side: 'top' | 'bottom' | 'end'
  wish: number
  at: number
  /** A straight drop to a bar below or above: keeps its place, the others make room. */
  readonly straight?: boolean
}

export function buildScene(items: Items): Scene {
  const buses = new Map<string, BusShape>()
  const branches: Item[] = []
  const hangs: Item[] = []
  for (const item of items.values()) {
    if (item.kind === 'bus') {
      const half = (number(item, 'bar') ?? 36) / 2
      buses.set(item.id, {
        id: item.id,
        name: item.name,
        x: number(item, 'x') ?? 0,
        y: number(item, 'y') ?? 0,
        half,
        upright: item.upright === true,
        kv: number(item, 'nominal_kv') ?? 0,
        label: labelOf(item),
        topTaken: false,
        nameFrom: Number.NEGATIVE_INFINITY,
        bottomTaken: false,
      })
    } else {
      const ends = busesOf(item).length
      if (ends >= 2) branches.push(item)
      else if (ends === 1) hangs.push(item)
    }
  }
  const ports = new Map<string, Port[]>()
  const put = (bus: BusShape, port: Port) => {
    const list = ports.get(bus.id)
    if (list) list.push(port)
    else ports.set(bus.id, [port])
    return port
  }
  const rows = rowsOf(buses.values())
  const pairs = pairUp(branches, buses, put, rows)
  for (const item of hangs) {
    const bus = buses.get(busesOf(item)[0] ?? '')
    if (bus) put(bus, portFor(item, bus))
  }
  for (const bus of buses.values()) {
    const list = ports.get(bus.id) ?? []
    assign(bus, list)
    const standing = list.filter((p) => p.side === 'top' && !p.other).map((p) => p.at + 14)
    bus.nameFrom = Math.max(...standing, Number.NEGATIVE_INFINITY)
  }
  const branchShapes = pairs.map(({ item, a, b, c, pa, pb, pc }) => {
    if (isTie(item, a, b)) return tieShape(item, a, pa, b, pb)
    const shape = branchOn(item, route(a, pa, b, pb))
    return c && pc ? { ...shape, leg: legTo(shape.at, c, pc) } : shape
  })
  const hangShapes = [...buses.values()].flatMap((bus) =>
    (ports.get(bus.id) ?? []).filter((p) => !p.other).map((p) => hangShape(p, bus)),
  )
  return sceneOf([...buses.values()], buses, branchShapes, hangShapes)
}

interface Pair {
  readonly item: Item
  readonly a: BusShape
  readonly b: BusShape
  readonly pa: Port
  readonly pb: Port
  /** The third bus of a three-winding transformer. */
  readonly c?: BusShape | undefined
  readonly pc?: Port | undefined
}

/** Both ends of every branch as ports; branches between the same two buses stand side by side. */
function pairUp(
  branches: readonly Item[],
  buses: ReadonlyMap<string, BusShape>,
  put: (bus: BusShape, port: Port) => Port,
  rows: Rows,
): Pair[] {
  const ends = branches.flatMap((item) => {
    const [a, b, c] = busesOf(item).map((id) => buses.get(id))
    return a && b ? [{ item, a, b, c, key: [a.id, b.id].sort().join('\n') }] : []
  })
  const total = new Map<string, number>()
  for (const { key } of ends) total.set(key, (total.get(key) ?? 0) + 1)
  const met = new Map<string, number>()
  return ends.map(({ item, a, b, c, key }) => {
    const nth = met.get(key) ?? 0
    met.set(key, nth + 1)
    const aside = nth - ((total.get(key) ?? 1) - 1) / 2
    return {
      item,
      a,
      b,
      pa: put(a, portTo(item, a, b, nth, aside, rows)),
      pb: put(b, portTo(item, b, a, nth, aside, rows)),
      c,
      pc: c && put(c, portTo(item, c, a, nth, aside, rows)),
    }
  })
}

/** A scene from its shapes. */
export function sceneOf(
  buses: readonly BusShape[],
  busById: ReadonlyMap<string, BusShape>,
  branches: readonly BranchShape[],
  hangs: readonly HangShape[],
): Scene {
  const centre = new Map<string, Point>()
  for (const bus of buses) centre.set(bus.id, bus)
  for (const branch of branches) centre.set(branch.id, branch.at)
  for (const hang of hangs) centre.set(hang.id, hang.at)
  const corners = buses.flatMap((b) =>
    b.upright
      ? [
          { x: b.x, y: b.y - b.half - 30 },
          { x: b.x, y: b.y + b.half + 40 },
        ]
      : [
          { x: b.x - b.half, y: b.y - 40 },
          { x: b.x + b.half, y: b.y + 40 },
        ],
  )
  const labelMoves = new Map<string, Point>()
  for (const s of [...buses, ...branches, ...hangs]) if (s.label.x || s.label.y) labelMoves.set(s.id, s.label)
  return { buses, branches, hangs, busById, box: boxOf(corners), centre, labelMoves }
}

/** Upright nodes by the height they stand at, from left to right. */
type Rows = ReadonlyMap<number, readonly number[]>

function rowsOf(buses: Iterable<BusShape>): Rows {
  const rows = new Map<number, number[]>()
  for (const b of buses) {
    if (!b.upright) continue
    const row = rows.get(Math.round(b.y))
    if (row) row.push(b.x)
    else rows.set(Math.round(b.y), [b.x])
  }
  for (const row of rows.values()) row.sort((a, b) => a - b)
  return rows
}

/** Whether a branch that leaves a node sideways would run through other nodes of its row. */
function passesNodes(rows: Rows, bus: BusShape, other: BusShape): boolean {
  const row = rows.get(Math.round(bus.y)) ?? []
  const end = other.upright ? other.x : other.x < bus.x ? other.x + other.half : other.x - other.half
  if (other.upright && Math.abs(other.y - bus.y) > 8) return false
  const [low, high] = end < bus.x ? [end, bus.x] : [bus.x, end]
  const next = row[firstAbove(row, low + 1)]
  return next !== undefined && next < high - 1
}

/** Position of the first value above a bound in an ascending list. */
function firstAbove(values: readonly number[], bound: number): number {
  let low = 0
  let high = values.length
  while (low < high) {
    const middle = (low + high) >> 1
    if (values[middle]! <= bound) low = middle + 1
    else high = middle
  }
  return low
}

const overlapOf = (a: BusShape, b: BusShape) => {
  const low = Math.max(a.x - a.half, b.x - b.half)
  const high = Math.min(a.x + a.half, b.x + b.half)
  return high - low > 12 ? { low, high } : null
}

/** How a branch leaves a bus towards another one; `aside` parts it from others between the same two. */
function portTo(item: Item, bus: BusShape, other: BusShape, nth: number, aside: number, rows: Rows): Port {
  const level = Math.abs(other.y - bus.y) < 8
  const port = { item, other, wish: 0, at: 0 }
  if (isTie(item, bus, other)) return { ...port, side: 'top', wish: bus.x }
  if (bus.upright && passesNodes(rows, bus, other)) return { ...port, side: 'top', wish: bus.x }
  if (bus.upright) {
    const beside = level || (!other.upright && Math.abs(other.y - bus.y) <= bus.half)
    if (beside) return { ...port, side: 'end', wish: nth * 12 }
    // A section that turns off goes up or down first, so that it leaves from the bus and not from its neighbour.
    const below = Math.abs(other.x - bus.x) <= 8
    const turnsHere = below || (other.upright && other.x >= bus.x)
    return { ...port, side: turnsHere ? (other.y < bus.y ? 'top' : 'bottom') : 'end', wish: nth * 12 }
  }
  if (level && nth === 0) return { ...port, side: 'end', wish: 0 }
  const side = other.y < bus.y ? 'top' : 'bottom'
  const shared = other.upright ? null : overlapOf(bus, other)
  if (other.upright && Math.abs(other.x - bus.x) < bus.half - 6) {
    return { ...port, side, wish: other.x + aside * GAP, straight: true }
  }
  if (shared) {
    const wish = (shared.low + shared.high) / 2 + aside * 2 * GAP
    return { ...port, side, wish: Math.min(Math.max(wish, shared.low + 6), shared.high - 6), straight: true }
  }
  return { ...port, side, wish: other.x < bus.x ? bus.x - bus.half : bus.x + bus.half }
}

function portFor(item: Item, bus: BusShape): Port {
  const up = (hangSymbols[item.kind]?.up === true) !== (item.flipped === true)
  return {
    item,
    other: null,
    side: up ? 'top' : 'bottom',
    wish: up ? bus.x - bus.half + 10 : bus.x + bus.half,
    at: 0,
  }
}

/** Give every connection of a bus its place, in an order in which routes do not cross. */
function assign(bus: BusShape, list: Port[]) {
  for (const side of ['top', 'bottom'] as const) {
    const here = list.filter((p) => p.side === side)
    if (!here.length) continue
    if (side === 'top') bus.topTaken = true
    else bus.bottomTaken = true
    if (bus.upright) {
      // Branches go straight up or down; what hangs steps aside when there is one.
      const through = here.filter((p) => p.other)
      through.forEach((p, i) => {
        p.at = bus.x + i * 14
      })
      here
        .filter((p) => !p.other)
        .forEach((p, i) => {
          p.at = bus.x + (through.length ? -20 : 0) - i * 22
        })
      continue
    }
    alongBar(bus, here, side === 'bottom' ? 1 : -1)
  }
}

/**
 * Places along a bar: straight drops where they are, then from both ends inwards what goes left and right.
 * Of several that turn off to one side the nearest row leaves outermost, so that no two routes cross.
 */
function alongBar(bus: BusShape, ports: Port[], down: 1 | -1) {
  const low = bus.x - Math.max(bus.half - 8, 0)
  const high = bus.x + Math.max(bus.half - 8, 0)
  const gap = Math.min(GAP, ports.length > 1 ? (high - low) / (ports.length - 1) : GAP)
  const taken: number[] = []
  for (const p of ports.filter((q) => q.straight)) {
    p.at = p.wish
    taken.push(p.at)
  }
  const far = (p: Port) => (p.other ? down * (p.other.y - bus.y) : 0)
  const rest = ports.filter((q) => !q.straight).sort((p, q) => far(p) - far(q))
  for (const p of rest) {
    const leftwards = p.other ? p.other.x < bus.x : p.wish < bus.x
    const inward = leftwards ? 1 : -1
    let at = leftwards ? low : high
    for (let n = 0; n < 60 && taken.some((t) => Math.abs(t - at) < gap - 0.5); n++) at += (inward * gap) / 2
    p.at = Math.min(Math.max(at, low), high)
    taken.push(p.at)
  }
}

/** Corners of a branch between two ports. */
function route(a: BusShape, pa: Port, b: BusShape, pb: Port): Point[] {
  const start = leave(a, pa, b)
  const end = leave(b, pb, a)
  const middle = join(start, pa.side, end, pb.side, a, b)
  return [start, ...middle, end]
}

function leave(bus: BusShape, port: Port, other: BusShape): Point {
  if (port.side === 'end') {
    if (bus.upright) return { x: bus.x, y: bus.y + port.wish }
    return { x: other.x > bus.x ? bus.x + bus.half : bus.x - bus.half, y: bus.y }
  }
  if (bus.upright) return { x: port.at, y: port.side === 'top' ? bus.y - bus.half : bus.y + bus.half }
  return { x: port.at, y: bus.y }
}

function join(
  s: Point,
  sideA: Port['side'],
  e: Point,
  sideB: Port['side'],
  a: BusShape,
  b: BusShape,
): Point[] {
  if (Math.abs(s.x - e.x) < 0.5 || Math.abs(s.y - e.y) < 0.5) return []
  if (sideA !== 'end' && sideB === 'end') return [{ x: s.x, y: e.y }]
  if (sideA === 'end' && sideB !== 'end') return [{ x: e.x, y: s.y }]
  if (sideA === 'end') {
    const x = (s.x + e.x) / 2
    return [
      { x, y: s.y },
      { x, y: e.y },
    ]
  }
  // Two bars one above the other: across halfway, or around when both leave on the same side.
  const same = sideA === sideB
  const over = (bus: BusShape, side: Port['side']) => bus.upright && side === 'top'
  const y = same
    ? sideA === 'bottom'
      ? Math.max(a.y, b.y) + 34
      : Math.min(a.y, b.y) - 34
    : over(b, sideB)
      ? e.y - OVER_ROW
      : over(a, sideA)
        ? s.y - OVER_ROW
        : (s.y + e.y) / 2
  return [
    { x: s.x, y },
    { x: e.x, y },
  ]
}

/** Open, and so far apart that a line between them would cross everything. */
const isTie = (item: Item, a: BusShape, b: BusShape) =>
  item.closed === false && Math.abs(a.x - b.x) + Math.abs(a.y - b.y) > 260

/** Two stubs; the switch stands in the first. */
function tieShape(item: Item, a: BusShape, pa: Port, b: BusShape, pb: Port): BranchShape {
  const first = tieStub(a, pa)
  const second = tieStub(b, pb)
  const ends = [
    { at: first[1], name: b.name },
    { at: second[1], name: a.name },
  ]
  const shape = branchOn(item, first)
  return { ...shape, stub: second, stubNames: ends, vertical: true, forward: first[1].y > first[0].y }
}

const TIE_STUB = 34

function tieStub(bus: BusShape, port: Port): [Point, Point] {
  const up = port.side !== 'bottom'
  const x = port.side === 'end' ? bus.x : port.at
  const y = bus.upright ? bus.y + (up ? -bus.half : bus.half) : bus.y
  return [
    { x, y },
    { x, y: up ? y - TIE_STUB : y + TIE_STUB },
  ]
}

export function branchOn(item: Item, points: Point[]): BranchShape {
  const piece = longestPiece(points)
  return {
    id: item.id,
    name: item.name,
    kind: item.kind,
    buses: busesOf(item),
    device: text(item, 'device'),
    open: item.closed === false,
    points,
    stub: null,
    stubNames: [],
    at: piece.at,
    vertical: piece.vertical,
    forward: piece.forward,
    length: piece.length,
    leg: null,
    size: number(item, 'symbol_size') ?? 1,
    flipped: item.flipped === true,
    label: labelOf(item),
  }
}

const labelOf = (item: Item): Point => ({
  x: number(item, 'label_dx') ?? 0,
  y: number(item, 'label_dy') ?? 0,
})

/** From a symbol to a bus: beside it first, then down, so that it clears the other two windings. */
function legTo(from: Point, bus: BusShape, port: Port): Point[] {
  const end = bus.upright
    ? { x: bus.x, y: bus.y - bus.half }
    : { x: Math.min(Math.max(port.at || bus.x, bus.x - bus.half), bus.x + bus.half), y: bus.y }
  const y = from.y + 5
  return [{ x: from.x, y }, { x: end.x, y }, end]
}

function hangShape(port: Port, bus: BusShape): HangShape {
  const up = port.side === 'top'
  const sign = up ? -1 : 1
  const points: Point[] = []
  let foot: Point
  if (bus.upright) {
    const edge = bus.y + sign * bus.half
    if (Math.abs(port.at - bus.x) < 1) points.push({ x: bus.x, y: edge })
    else points.push({ x: bus.x, y: edge - sign * 8 }, { x: port.at, y: edge - sign * 8 })
    foot = { x: port.at, y: edge + sign * 14 }
  } else {
    points.push({ x: port.at, y: bus.y })
    foot = { x: port.at, y: bus.y + sign * STUB }
  }
  points.push(foot)
  return { ...hangOn(port.item, bus.id, points, foot), up }
}

/** What hangs from a bus, standing below it. */
export const hangOn = (item: Item, bus: string, points: Point[], at: Point): HangShape => ({
  id: item.id,
  name: item.name,
  kind: item.kind,
  device: text(item, 'device'),
  bus,
  points,
  at,
  up: false,
  size: number(item, 'symbol_size') ?? 1,
  label: labelOf(item),
})
