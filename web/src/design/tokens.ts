/** Colours, type and measures of both themes. Every colour in the interface comes from here. */
export interface Palette {
  readonly name: 'light' | 'dark'
  readonly paper: string
  readonly panel: string
  readonly rule: string
  readonly ink: string
  readonly quiet: string
  readonly accent: string
  readonly onAccent: string
  readonly accentWash: string
  readonly watch: string
  /** Ochre for text, dark enough to be read when small. */
  readonly watchInk: string
  readonly breach: string
  readonly breachWash: string
  readonly good: string
  readonly dead: string
  /** The map behind the network: land, coast and rivers, names of places. */
  readonly land: string
  readonly coast: string
  readonly place: string
  /** Voltage lens: low, middle, high. */
  readonly voltage: readonly [string, string, string]
  /** Loading lens: from nothing to beyond the rating. */
  readonly loading: readonly [string, string, string, string]
  /** Feeder lens: told apart by colour and, where two meet, by name. */
  readonly feeders: readonly string[]
  /** Phases A, B, C and the neutral. */
  readonly phases: readonly [string, string, string, string]
}

export const light: Palette = {
  name: 'light',
  paper: '#F6F3EC',
  panel: '#FFFDF8',
  rule: '#DDD6C8',
  ink: '#1D2733',
  quiet: '#5B6673',
  accent: '#0E6674',
  onAccent: '#FFFDF8',
  accentWash: '#E3EEEE',
  watch: '#A86B00',
  watchInk: '#865500',
  breach: '#9B1B5A',
  breachWash: '#F6E6EC',
  good: '#0E6674',
  dead: '#A9A395',
  land: '#F3EFE4',
  coast: '#B9C4C2',
  place: '#6B6758',
  voltage: ['#3B3A9E', '#77736B', '#C2611A'],
  loading: ['#C9B98F', '#C29A66', '#B26A5C', '#8E1550'],
  feeders: ['#0E6674', '#A86B00', '#5A4FA3', '#9B1B5A', '#4C7A2B', '#2E6DA8', '#8A4B2A', '#6B6F12'],
  phases: ['#0E6674', '#A86B00', '#6A4BC4', '#5B6673'],
}

export const dark: Palette = {
  name: 'dark',
  paper: '#14191F',
  panel: '#1B222A',
  rule: '#36404B',
  ink: '#E8E4DA',
  quiet: '#A3ACB6',
  accent: '#5CC0CD',
  onAccent: '#0F1419',
  accentWash: '#1D3238',
  watch: '#E0A93B',
  watchInk: '#E0A93B',
  breach: '#EE7FB2',
  breachWash: '#3A2030',
  good: '#5CC0CD',
  dead: '#66707B',
  land: '#20282F',
  coast: '#3D4C55',
  place: '#A3A08F',
  voltage: ['#9A98F5', '#A8A39A', '#F09A55'],
  loading: ['#8F8463', '#B9955F', '#DA8A73', '#F06FA8'],
  feeders: ['#5CC0CD', '#E0A93B', '#A79DF0', '#EE7FB2', '#93C468', '#7FB4EA', '#D79A73', '#C2C653'],
  phases: ['#5CC0CD', '#E0A93B', '#B6A3FF', '#A3ACB6'],
}

export const font = {
  sans: "'IBM Plex Sans', system-ui, sans-serif",
  mono: "'IBM Plex Mono', ui-monospace, monospace",
} as const
