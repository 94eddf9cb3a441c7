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
  three_winding: {
    gap: 17,
    Draw: () => (
      <>
        <circle cy={-6} r={8.5} />
        <circle cx={-5.5} cy={5} r={8.5} />
        <circle cx={5.5} cy={5} r={8.5} />
      </>
    ),
  },
  regulator: {
    gap: 14,
    Draw: () => (
      <>
        <circle r={10} />
        <path d="M0-14V-10M0 10V14M-11 9 11-9M11-9 5.5-8M11-9 9-3.5" />
      </>
    ),
  },
  series_reactor: {
    gap: 11,
    Draw: () => <path d="M0-11C7-11 7-4 0-4C7-4 7 3.5 0 3.5C7 3.5 7 11 0 11" />,
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

const Motor = ({ letter }: { letter: string }) => (
  <>
    <circle cy={9} r={9} />
    <path d={letter} />
  </>
)

/** A symbol at the end of a stub, drawn for one that hangs down; it is mirrored where it stands up. */
export interface HangSymbol {
  /** Stands up from its bus in place of hanging down. */
  readonly up?: boolean
  readonly Draw: (props: SymbolProps) => React.ReactNode
}

export const hangSymbols: Readonly<Record<string, HangSymbol>> = {
  load: { Draw: () => <path d="M-6 0H6L0 10Z" /> },
  lumped: { Draw: () => <path d="M-7 0H7L0 11ZM-3.5 5.5H3.5" /> },
  induction_motor: { Draw: () => <Motor letter="M-4 12.5V5.5L0 9.5 4 5.5V12.5" /> },
  synchronous_motor: {
    Draw: () => <Motor letter="M-4.5 9V4L-1.5 7 1.5 4V9M-4.5 14c1.5-4 3-4 4.5 0s3 4 4.5 0" />,
  },
  inverter: {
    up: true,
    Draw: () => (
      <>
        <path d="M-9 0H9V18H-9ZM-9 18 9 0" />
        <path d="M-6 5H0M2 13.5c1-2.5 2-2.5 3 0s2 2.5 3 0" />
      </>
    ),
  },
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
  electrode: { Draw: () => <path d="M0 0V7M-8 7H8M-5 11H5M-2 15H2" /> },
  shunt: {
    Draw: ({ device }) =>
      device === 'reactor' ? (
        <path d="M0 0c5 0 5 5 0 5c5 0 5 5 0 5c5 0 5 5 0 5M-6 18H6M-3.5 20.5h7" />
      ) : (
        <path d="M-7 0H7M-7 4.5H7M0 4.5V12M-6 12H6M-3.5 14.5h7" />
      ),
  },
}
