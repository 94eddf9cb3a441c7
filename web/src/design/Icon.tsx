/** Marks and signs drawn here, so that they look the same everywhere and need no glyphs. */
const paths = {
  undo: 'M7 5 3 9l4 4M3.5 9H11a4 4 0 0 1 0 8H8',
  redo: 'M13 5l4 4-4 4M16.5 9H9a4 4 0 0 0 0 8h3',
  plus: 'M10 4v12M4 10h12',
  minus: 'M4 10h12',
  fit: 'M4 8V4h4M12 4h4v4M16 12v4h-4M8 16H4v-4',
  close: 'M5 5l10 10M15 5 5 15',
  beside: 'M3 4h14v12H3zM10 4v12',
  down: 'M5 8l5 5 5-5',
  up: 'M5 12l5-5 5 5',
  right: 'M8 5l5 5-5 5',
  sun: 'M10 6.5a3.5 3.5 0 1 0 0 7 3.5 3.5 0 0 0 0-7M10 2v2M10 16v2M2 10h2M16 10h2M4.5 4.5l1.4 1.4M14.1 14.1l1.4 1.4M4.5 15.5l1.4-1.4M14.1 5.9l1.4-1.4',
  moon: 'M15.5 12.5A6.5 6.5 0 0 1 7.5 4.5a6.5 6.5 0 1 0 8 8z',
  bin: 'M4 6h12M8 6V4h4v2M6 6l.7 10h6.6L14 6',
  palette: 'M4 6h12M4 10h8M4 14h10',
  edit: 'M4 16l1-4 8-8 3 3-8 8zM11.5 5.5l3 3',
  pin: 'M7 3h6M8 3v5l-2.5 3h9L12 8V3M10 11v6',
  look: 'M2.5 10s3-5 7.5-5 7.5 5 7.5 5-3 5-7.5 5-7.5-5-7.5-5M10 8a2 2 0 1 0 0 4 2 2 0 0 0 0-4',
  sheet: 'M4 3h12v14H4zM7 7h6M7 10h6M7 13h4',
} as const

export type IconName = keyof typeof paths

export function Icon({ name, size = 16 }: { name: IconName; size?: number }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 20 20"
      fill="none"
      stroke="currentColor"
      strokeWidth={1.6}
      strokeLinecap="round"
      strokeLinejoin="round"
      aria-hidden="true"
    >
      <path d={paths[name]} />
    </svg>
  )
}

/** Severity and direction without colour: an arrow, and one notch (watch) or two (breach). */
export function Mark({
  severity,
  direction,
  size = 16,
}: {
  severity: string
  direction: string
  size?: number
}) {
  return (
    <svg width={size * 1.15} height={size} viewBox="0 0 18.4 16" fill="currentColor" aria-hidden="true">
      <MarkShape severity={severity} direction={direction} />
    </svg>
  )
}

export function MarkShape({ severity, direction }: { severity: string; direction: string }) {
  return (
    <>
      {direction === 'above' && <path d="M1 11.5 5.2 4l4.2 7.5z" />}
      {direction === 'below' && <path d="M1 4.5 5.2 12l4.2-7.5z" />}
      {direction === '' && <path d="M5.2 3.5 9.4 8l-4.2 4.5L1 8z" />}
      <rect x={11.4} y={3} width={2.2} height={10} />
      {severity === 'breach' && <rect x={15} y={3} width={2.2} height={10} />}
    </>
  )
}
