/** Symbols after IEC 60617 as path data about the origin: the same for the SVG, the canvas and the grow menu. */

export interface SymbolProps {
  readonly device: string
  readonly open?: boolean
}

/** A symbol on a branch: drawn for a branch that runs downwards. `gap` is how much of the line it covers. */
export interface BranchSymbol {
  readonly gap: number
  readonly path: (props: SymbolProps) => string
}

const circle = (x: number, y: number, r: number) =>
  `M${x - r} ${y}a${r} ${r} 0 1 1 ${2 * r} 0a${r} ${r} 0 1 1 ${-2 * r} 0Z`

const FUSE = 'M-4-9H4V9H-4ZM0-9V9'
const CROSS = 'M-3.2-12.2 3.2-5.8M3.2-12.2-3.2-5.8'
const BAR = 'M-4.5-9h9'

export const branchSymbols: Readonly<Record<string, BranchSymbol>> = {
  transformer: { gap: 15, path: () => circle(0, -5.5, 9) + circle(0, 5.5, 9) },
  three_winding: { gap: 17, path: () => circle(0, -6, 8.5) + circle(-5.5, 5, 8.5) + circle(5.5, 5, 8.5) },
  regulator: { gap: 14, path: () => `${circle(0, 0, 10)}M0-14V-10M0 10V14M-11 9 11-9M11-9 5.5-8M11-9 9-3.5` },
  series_reactor: { gap: 11, path: () => 'M0-11C7-11 7-4 0-4C7-4 7 3.5 0 3.5C7 3.5 7 11 0 11' },
  switch: {
    gap: 9,
    path: ({ device, open }) =>
      device === 'fuse' ? FUSE : (open ? 'M0 9L-8-6' : 'M0 9V-9') + (device === 'breaker' ? CROSS : BAR),
  },
}

const motor = (letter: string) => circle(0, 9, 9) + letter

/** A symbol at the end of a stub, drawn for one that hangs down; it is mirrored where it stands up. */
export interface HangSymbol {
  /** Stands up from its bus in place of hanging down. */
  readonly up?: boolean
  /** Has writing in it: turned back where it stands up. */
  readonly lettered?: boolean
  readonly path: (props: SymbolProps) => string
}

const REACTOR = 'M0 0c5 0 5 5 0 5c5 0 5 5 0 5c5 0 5 5 0 5M-6 18H6M-3.5 20.5h7'
const FILTER = 'M0 0c5 0 5 4 0 4c5 0 5 4 0 4V10M-7 10H7M-7 14H7M0 14V20M-6 20H6M-3.5 22.5h7'
const CAPACITOR = 'M-7 0H7M-7 4.5H7M0 4.5V12M-6 12H6M-3.5 14.5h7'

export const hangSymbols: Readonly<Record<string, HangSymbol>> = {
  load: { path: () => 'M-6 0H6L0 10Z' },
  lumped: { path: () => 'M-7 0H7L0 11ZM-3.5 5.5H3.5' },
  induction_motor: { lettered: true, path: () => motor('M-4 12.5V5.5L0 9.5 4 5.5V12.5') },
  synchronous_motor: {
    lettered: true,
    path: () => motor('M-4.5 9V4L-1.5 7 1.5 4V9M-4.5 14c1.5-4 3-4 4.5 0s3 4 4.5 0'),
  },
  inverter: {
    up: true,
    lettered: true,
    path: () => 'M-9 0H9V18H-9ZM-9 18 9 0M-6 5H0M2 13.5c1-2.5 2-2.5 3 0s2 2.5 3 0',
  },
  source: { up: true, path: () => `${circle(0, 10, 10)}M-6 10c2-5 4-5 6 0s4 5 6 0` },
  generator: { up: true, lettered: true, path: () => motor('M3.2 6.5A4 4 0 1 0 4 9.5H.8') },
  electrode: { path: () => 'M0 0V7M-8 7H8M-5 11H5M-2 15H2' },
  filter: { path: () => FILTER },
  shunt: { path: ({ device }) => (device === 'reactor' ? REACTOR : CAPACITOR) },
}
