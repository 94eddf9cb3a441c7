/** How phases look and what they are called, in every plot, table and label. */

import type { Palette } from '../design/tokens'
import type { PhaseNames } from './prefs'

/** A solid, B dashed, C dotted, neutral dash-dot; pairs of phases as the first of them; positive, negative, zero sequence. */
export const PHASE_DASH: Readonly<Record<string, string | undefined>> = {
  A: undefined,
  B: '7 4',
  C: '2 3',
  N: '8 3 2 3',
  AB: undefined,
  BC: '7 4',
  CA: '2 3',
  1: undefined,
  2: '7 4',
  0: '8 3 2 3',
}

const HUES: Readonly<Record<string, number>> = {
  A: 0,
  B: 1,
  C: 2,
  N: 3,
  AB: 0,
  BC: 1,
  CA: 2,
  1: 0,
  2: 1,
  0: 3,
}

export const phaseColour = (palette: Palette, conductor: string): string =>
  palette.phases[HUES[conductor] ?? 3] ?? palette.quiet

const NUMBERED: Readonly<Record<string, string>> = { A: 'L1', B: 'L2', C: 'L3', N: 'N' }

/** A conductor, or several, as the planner writes them. */
export const phaseName = (conductors: string, names: PhaseNames): string =>
  names === 'ABC'
    ? conductors
    : [...conductors].map((c) => NUMBERED[c] ?? c).join(conductors.length > 1 ? '-' : '')
