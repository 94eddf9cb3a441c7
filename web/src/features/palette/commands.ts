/** Every command there is: its name, its key, and what it does. The palette and the keyboard read one list. */
import type { Kind, Shoot } from '../../api/client'
import { useThemeChoice } from '../../design/theme'
import { busesOf, type Item, text } from '../../model/items'
import { setPrefs, usePrefs, type Way } from '../../model/prefs'
import { align, chosenBuses, distribute, labelsBack, resize, selectFed, turn } from '../../session/arrange'
import { copy, copyData, cut, duplicate, pasteHere } from '../../session/copies'
import { createAlone, SPECTRUM } from '../../session/create'
import { grow, placeAs, putBackdrop, remove, swap, throwSwitch, tidy } from '../../session/edits'
import { startPicking } from '../../session/pick'
import { redo, undo, updateOrTell } from '../../session/queue'
import { lookAway, pin } from '../../session/runs'
import { record, recordingOf, toNextPhase } from '../../session/schemes'
import {
  fitSheet,
  how,
  type Lens,
  lookBy,
  select,
  selection,
  selectMany,
  stepFound,
  useBench,
} from '../../session/store'
import { lensChoices } from '../../sheet/lens'
import { nextHeight, openDesk, openView, toggleBeside } from '../../shelf/desks'
import { allViews, DESKS, type DeskId } from '../../shelf/registry'

export interface Command {
  readonly id: string
  readonly label: string
  readonly keys?: string
  /** What it is called where its place goes without saying. */
  readonly short?: string
  readonly meaning?: string
  readonly run: () => void
}

export interface Overlays {
  readonly openPalette: () => void
  readonly openFind: () => void
  readonly openProjects: () => void
}

const set = useBench.setState

export function commandsFor(shoots: readonly Shoot[], kinds: readonly Kind[], overlays: Overlays): Command[] {
  const { selected, chosen, items } = useBench.getState()
  const item = selected && !chosen.size ? items.get(selected) : undefined
  return [
    { id: 'find', label: 'Find an element', keys: '/', run: overlays.openFind },
    { id: 'palette', label: 'All commands', keys: 'Ctrl+K', run: overlays.openPalette },
    ...historyCommands(),
    ...(item ? growCommands(item, shoots) : []),
    ...(item ? oneCommands(item) : []),
    ...selectionCommands(),
    ...viewCommands(kinds),
    { id: 'settings', label: 'Settings: limits, criteria per phase, method', run: openSettings },
    { id: 'projects', label: 'All projects', run: overlays.openProjects },
  ]
}

/** The settings stand in the card of the whole network. */
function openSettings() {
  select(null)
  set({ cardOpen: true })
  setTimeout(() => {
    const form = document.getElementById('settings')
    form?.scrollIntoView({ block: 'start' })
    form?.focus({ preventScroll: true })
  }, 80)
}

function historyCommands(): Command[] {
  const { undoLabel, redoLabel } = useBench.getState()
  return [
    ...(undoLabel
      ? [{ id: 'undo', label: `Undo: ${undoLabel}`, keys: 'Ctrl+Z', run: () => void undo() }]
      : []),
    ...(redoLabel
      ? [{ id: 'redo', label: `Redo: ${redoLabel}`, keys: 'Ctrl+Shift+Z', run: () => void redo() }]
      : []),
  ]
}

/** What can grow: at a bus, in a line, at the far end of a branch, at the bus from which something hangs. */
export function growCommands(item: Item, shoots: readonly Shoot[]): Command[] {
  const { items } = useBench.getState()
  const end = item.kind === 'bus' ? undefined : items.get(busesOf(item).at(-1) ?? '')
  return [...growAt(item, shoots), ...(end ? growAt(end, shoots) : [])]
}

function growAt(item: Item, shoots: readonly Shoot[]): Command[] {
  const here = shoots.filter((s) => s.at.includes(item.kind))
  const start = (s: Shoot) => {
    if (s.asks.length && s.name !== 'transformer') set({ asking: { what: s.name, at: item.id } })
    else void grow(item.id, s.name)
  }
  const where = `${item.kind === 'bus' ? 'at' : 'of'} ${item.name}`
  const { selected } = useBench.getState()
  const elsewhere = selected === item.id ? '' : ` ${where}`
  const grown = here.map((s) => ({
    id: `grow-${s.name} ${item.id}`,
    label: `Grow ${s.label.toLowerCase()} ${where}`,
    short: `${s.label}${elsewhere}`,
    meaning: s.meaning,
    keys: 'G',
    run: () => start(s),
  }))
  if (item.kind !== 'bus') return grown
  const between = shoots
    .filter((s) => s.at.includes('pair'))
    .map((s) => ({
      id: `grow-to-${s.name} ${item.id}`,
      label: `${s.label} from ${item.name} to another bus`,
      short: `${s.label} ${elsewhere ? `from ${item.name} ` : ''}to another bus`,
      keys: 'G',
      run: () => startPicking(item.id, s.name, s.label),
    }))
  const joining = {
    id: `grow-join ${item.id}`,
    label: `Join ${item.name} with another bus`,
    short: `Join ${elsewhere ? `${item.name} ` : ''}with another bus`,
    // A key speaks of what is selected, and of nothing beyond it.
    keys: elsewhere ? undefined : 'J',
    run: () => startPicking(item.id, 'join', 'Join'),
  }
  return [...grown, ...between, joining]
}

const phasesOf = (item: Item) => text(item, 'conductors').replace('N', '').length

function oneCommands(item: Item): Command[] {
  return [
    ...(item.kind === 'switch'
      ? [
          {
            id: 'throw',
            label: `${item.closed === false ? 'Close' : 'Open'} ${item.name}`,
            keys: 'O',
            run: () => throwSwitch(item.id),
          },
        ]
      : []),
    ...(item.kind !== 'bus' && [1, 2].includes(phasesOf(item))
      ? [
          {
            id: 'next-phase',
            label: `Move ${item.name} to its next phase`,
            keys: 'Y',
            run: () => void toNextPhase(item.id),
          },
        ]
      : []),
    {
      id: 'how',
      label: `How do the figures of ${item.name} come about?`,
      keys: '?',
      run: () => how(item.id),
    },
    {
      id: 'rename',
      label: `Rename ${item.name}`,
      keys: 'F2',
      run: () => set({ cardOpen: true, renaming: item.id }),
    },
    {
      id: 'fed',
      label: `Select ${item.name} and everything fed from here`,
      keys: 'D',
      run: () => void selectFed(item.id),
    },
    {
      id: 'copy-data',
      label: `Take the data of ${item.name} to apply to others`,
      keys: 'Ctrl+Shift+C',
      run: () => copyData(item.id),
    },
  ]
}

function selectionCommands(): Command[] {
  const { items, clip, selected } = useBench.getState()
  const ids = selection()
  const first = items.get(ids[0] ?? '')
  const onto = items.get(selected ?? '')?.kind === 'bus' ? items.get(selected ?? '') : undefined
  const pasting: Command[] = clip.length
    ? [
        {
          id: 'paste',
          label: onto ? `Paste onto ${onto.name}` : 'Paste where it was',
          keys: 'Ctrl+V',
          run: () => void pasteHere(1),
        },
        {
          id: 'paste-times',
          label: 'Paste several times …',
          keys: 'Ctrl+Shift+V',
          run: () => set({ asking: { what: 'paste', at: selected ?? '' } }),
        },
      ]
    : []
  if (!first) return [...pasting, all()]
  const what = ids.length > 1 ? `${ids.length} elements` : first.name
  const buses = chosenBuses().length
  return [
    { id: 'copy', label: `Copy ${what}`, keys: 'Ctrl+C', run: () => copy(ids) },
    { id: 'cut', label: `Cut ${what}`, keys: 'Ctrl+X', run: () => void cut(ids) },
    { id: 'duplicate', label: `Duplicate ${what}`, keys: 'Ctrl+D', run: () => void duplicate(ids) },
    ...pasting,
    { id: 'remove', label: `Remove ${what}`, keys: 'Delete', run: () => void remove(ids) },
    { id: 'larger', label: 'Next size up', keys: ']', run: () => void swap(ids, 1) },
    { id: 'smaller', label: 'Next size down', keys: '[', run: () => void swap(ids, -1) },
    { id: 'turn', label: `Turn ${what}`, keys: 'R', run: turn },
    { id: 'grow-symbol', label: 'Larger symbol', run: () => resize(1.25) },
    { id: 'shrink-symbol', label: 'Smaller symbol', run: () => resize(0.8) },
    { id: 'labels-back', label: 'Put moved labels back', run: labelsBack },
    ...(buses > 1
      ? [
          { id: 'align-y', label: 'Align on a level', run: () => align('y') },
          { id: 'align-x', label: 'Align upright', run: () => align('x') },
          { id: 'tidy-some', label: `Tidy ${buses} buses`, keys: 'T', run: () => void tidy(ids) },
        ]
      : []),
    ...(buses > 2
      ? [
          { id: 'distribute-x', label: 'Even gaps from left to right', run: () => distribute('x') },
          { id: 'distribute-y', label: 'Even gaps from top to bottom', run: () => distribute('y') },
        ]
      : []),
    all(),
    { id: 'deselect', label: 'Select nothing', keys: 'Esc', run: () => select(null) },
  ]
}

const all = (): Command => ({
  id: 'all',
  label: 'Select everything',
  keys: 'Ctrl+A',
  run: () => selectMany([...useBench.getState().items.values()].filter(isEquipment).map((i) => i.id)),
})

const isEquipment = (i: Item) =>
  Object.keys(i).some((k) => k === 'bus' || k.endsWith('_bus')) || i.kind === 'bus'

function viewCommands(kinds: readonly Kind[]): Command[] {
  const { shelfOpen, cardOpen, grid, pinned, arrangement, looking, found, raw } = useBench.getState()
  const lens = (id: Lens, label: string): Command => ({
    id: `lens-${id}`,
    label: `Lens: ${label}`,
    run: () => set({ lens: id }),
  })
  return [
    { id: 'worst', label: 'Go to the worst finding', keys: 'W', run: toWorst },
    { id: 'fit', label: 'Show everything', keys: 'F', run: fitSheet },
    ...(found.length
      ? [
          { id: 'next-found', label: 'Next of what was found', keys: 'N', run: () => stepFound(1) },
          {
            id: 'last-found',
            label: 'The one before, of what was found',
            keys: 'Shift+N',
            run: () => stepFound(-1),
          },
        ]
      : []),
    {
      id: 'grid',
      label: grid ? 'Hide the grid' : 'Show the grid',
      keys: '#',
      run: () => set({ grid: !grid }),
    },
    { id: 'tidy', label: 'Lay the sheet out anew', run: () => void tidy() },
    {
      id: 'map',
      label: arrangement === 'map' ? 'Show the schematic' : 'Show the map',
      keys: 'M',
      run: () => set({ arrangement: arrangement === 'map' ? 'schematic' : 'map' }),
    },
    { id: 'labels', label: 'Labels and units …', keys: 'L', run: () => set({ dialog: 'labels' }) },
    { id: 'picture', label: 'Picture of the sheet: SVG, PDF, PNG …', run: () => set({ dialog: 'picture' }) },
    {
      id: 'surface',
      label: usePrefs.getState().heat ? 'Hide the surface' : 'Show the surface of voltage or loading',
      keys: 'H',
      run: () => setPrefs({ heat: !usePrefs.getState().heat }),
    },
    {
      id: 'running',
      label: usePrefs.getState().animate ? 'Stop running flows' : 'Show flows running',
      run: () => setPrefs({ animate: !usePrefs.getState().animate }),
    },
    ...geographyCommands(),
    ...(looking ? [{ id: 'present', label: 'Back to the present network', run: lookAway }] : []),
    {
      id: 'power-unit',
      label: usePrefs.getState().units.power === 'MW' ? 'Show power in kW' : 'Show power in MW',
      run: () => {
        const { units } = usePrefs.getState()
        setPrefs({ units: { ...units, power: units.power === 'MW' ? 'kW' : 'MW' } })
      },
    },
    {
      id: 'shelf',
      label: shelfOpen ? 'Fold the shelf' : 'Unfold the shelf',
      keys: 'B',
      run: () => set({ shelfOpen: !shelfOpen }),
    },
    {
      id: 'shelf-tall',
      label: 'The shelf on a third, half or all of the height',
      keys: 'Shift+B',
      run: nextHeight,
    },
    {
      id: 'card',
      label: cardOpen ? 'Fold the card' : 'Unfold the card',
      keys: 'C',
      run: () => set({ cardOpen: !cardOpen }),
    },
    ...deskCommands(),
    ...phaseCommands(),
    ...[SPECTRUM, ...kinds.filter((k) => k.alone)].map((kind) => ({
      id: `new-${kind.label}`,
      label: `New ${kind.label.toLowerCase()}`,
      run: () => void createAlone(kind).then((id) => id && select(id)),
    })),
    { id: 'pin', label: pinned ? 'Let the pinned result go' : 'Pin this result', keys: 'P', run: pin },
    ...lensChoices(raw, !!pinned).map((l) => lens(l.id, l.label)),
    ...(['light', 'dark', 'system'] as const).map((t) => ({
      id: `theme-${t}`,
      label: `Theme: ${t === 'system' ? 'as the system' : t}`,
      run: () => useThemeChoice.getState().setChoice(t),
    })),
  ]
}

/** Desks by number, pressed again for the next view; every view by name. */
function deskCommands(): Command[] {
  const label = (id: DeskId) => DESKS.find((d) => d.id === id)?.label ?? id
  return [
    ...DESKS.map((d) => ({
      id: `desk-${d.id}`,
      label: `Desk: ${d.label}, ${d.about}`,
      keys: d.keys,
      run: () => openDesk(d.id),
    })),
    ...allViews().map((v) => ({
      id: v.id,
      label: `${label(v.desk)}: ${v.label}`,
      keys: v.keys,
      run: () => openView(v.id),
    })),
    {
      id: 'beside',
      label: 'Lay a second view beside, or take it away',
      run: toggleBeside,
    },
  ]
}

/** The load flow per phase and how it is looked at; schemes. */
function phaseCommands(): Command[] {
  const { items } = useBench.getState()
  const settings = items.get('settings')
  const perPhase = settings?.study === 'per_phase'
  const way = (id: Way, label: string): Command => ({
    id: `way-${id}`,
    label: `Results by ${label}`,
    run: () => lookBy(id),
  })
  return [
    {
      id: 'per-phase',
      label: perPhase ? 'Solve balanced' : 'Solve per phase',
      run: () =>
        settings &&
        void updateOrTell(
          settings,
          { study: perPhase ? 'balanced' : 'per_phase' },
          perPhase ? 'Solve balanced' : 'Solve per phase',
        ),
    },
    way('worst', 'worst phase'),
    way('phases', 'phases'),
    way('sequences', 'sequences'),
    way('line', 'line to line'),
    ...(recordingOf(items)
      ? [{ id: 'stop-recording', label: 'Stop recording into the scheme', run: () => void record(null) }]
      : []),
  ]
}

/** Ask for a GeoJSON file and put it behind the map. */
function chooseBackdrop() {
  const input = document.createElement('input')
  input.type = 'file'
  input.accept = '.geojson,.json,application/geo+json'
  input.onchange = () => {
    const file = input.files?.[0]
    if (file) void putBackdrop(file)
  }
  input.click()
}

/** The map and the schematic made from each other, and lengths taken from routes. */
function geographyCommands(): Command[] {
  const { items } = useBench.getState()
  const lines = selection().filter((id) => items.get(id)?.kind === 'line')
  return [
    {
      id: 'backdrop',
      label: 'Map: put a coast, roads and places behind it (GeoJSON) …',
      run: chooseBackdrop,
    },
    {
      id: 'to-map',
      label: 'Map: give buses without a place one from the schematic',
      run: () => void placeAs('map'),
    },
    { id: 'to-schematic', label: 'Schematic: make it from the map', run: () => void placeAs('schematic') },
    ...(lines.length
      ? [
          {
            id: 'lengths',
            label: `Take the length of ${lines.length === 1 ? items.get(lines[0]!)?.name : `${lines.length} lines`} from the route`,
            run: () => void placeAs('lengths', lines),
          },
        ]
      : []),
  ]
}

function toWorst() {
  const worst = useBench.getState().result?.findings[0]
  if (worst) select(worst.element, { reveal: true })
}

/** The name of a key press as commands write it. */
export function keysOf(event: KeyboardEvent): string {
  const parts = [
    event.ctrlKey || event.metaKey ? 'Ctrl' : '',
    event.shiftKey && (event.key.length > 1 || /^[a-z]$/i.test(event.key)) ? 'Shift' : '',
  ]
  if ((event.ctrlKey || event.metaKey) && event.shiftKey && event.key.length === 1) parts[1] = 'Shift'
  const key = event.key === 'Escape' ? 'Esc' : event.key === 'Backspace' ? 'Delete' : event.key
  return [...parts.filter(Boolean), key.length === 1 ? key.toUpperCase() : key].join('+')
}

export const labelOfKind = (kinds: readonly Kind[], kind: string) =>
  kinds.find((k) => k.kind === kind)?.label ?? kind
