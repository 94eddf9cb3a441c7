/** Symbols after IEC 60617, drawn about the origin; the stroke is the current colour. */

export interface SymbolProps {
  readonly device: string
  readonly open?: boolean
}

/** A symbol on a branch: drawn for a branch that runs downwards. `gap` is how much of the line it covers. */
export interface BranchSymbol {
  readonly gap: number
  readonly Draw: (props: SymbolProps) => React.ReactNode
}

export const branchSymbols: Readonly<Record<string, BranchSymbol>> = {
  transformer: {
    gap: 15,
    Draw: () => (
      <>
        <circle cy={-5.5} r={9} />
        <circle cy={5.5} r={9} />
      </>
    ),
  },
  switch: {
    gap: 9,
    Draw: ({ device, open }) => {
      if (device === 'fuse')
        return (
          <>
            <rect x={-4} y={-9} width={8} height={18} />
            <path d="M0-9V9" />
          </>
        )
      return (
        <>
          <path d={open ? 'M0 9 L-8-6' : 'M0 9V-9'} />
          {device === 'breaker' ? <path d="M-3.2-12.2 3.2-5.8M3.2-12.2-3.2-5.8" /> : <path d="M-4.5-9h9" />}
        </>
      )
    },
  },
}

/** A symbol at the end of a stub, drawn for one that hangs down; it is mirrored where it stands up. */
export interface HangSymbol {
  /** Stands up from its bus in place of hanging down. */
  readonly up?: boolean
  readonly Draw: (props: SymbolProps) => React.ReactNode
}

export const hangSymbols: Readonly<Record<string, HangSymbol>> = {
  load: { Draw: () => <path d="M-6 0H6L0 10Z" /> },
  source: {
    up: true,
    Draw: () => (
      <>
        <circle cy={10} r={10} />
        <path d="M-6 10c2-5 4-5 6 0s4 5 6 0" />
      </>
    ),
  },
  generator: {
    up: true,
    Draw: () => (
      <>
        <circle cy={9} r={9} />
        <path d="M3.2 6.5A4 4 0 1 0 4 9.5H.8" />
      </>
    ),
  },
  shunt: {
    Draw: ({ device }) =>
      device === 'reactor' ? (
        <path d="M0 0c5 0 5 5 0 5c5 0 5 5 0 5c5 0 5 5 0 5M-6 18H6M-3.5 20.5h7" />
      ) : (
        <path d="M-7 0H7M-7 4.5H7M0 4.5V12M-6 12H6M-3.5 14.5h7" />
      ),
  },
}
