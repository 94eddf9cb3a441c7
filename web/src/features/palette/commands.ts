/** Every command there is: its name, its key, and what it does. The palette and the keyboard read one list. */
import type { Kind } from '../../api/client'
import { grow, redo, remove, tidy, undo } from '../../bench/session'
import { fitSheet, type Lens, select, useBench } from '../../bench/store'
import { useThemeChoice } from '../../design/theme'

export interface Command {
  readonly id: string
  readonly label: string
  readonly keys?: string
  readonly run: () => void
}

export interface Overlays {
  readonly openPalette: () => void
  readonly openFind: () => void
  readonly openProjects: () => void
}

export function commandsFor(
  shoots: readonly { name: string; label: string }[],
  overlays: Overlays,
): Command[] {
  const { selected, items, undoLabel, redoLabel, shelfOpen, cardOpen } = useBench.getState()
  const item = selected ? items.get(selected) : undefined
  const set = useBench.setState
  const lens = (id: Lens, label: string): Command => ({
    id: `lens-${id}`,
    label: `Lens: ${label}`,
    run: () => set({ lens: id }),
  })
  return [
    { id: 'find', label: 'Find an element', keys: '/', run: overlays.openFind },
    { id: 'palette', label: 'All commands', keys: 'Ctrl+K', run: overlays.openPalette },
    ...(undoLabel
      ? [{ id: 'undo', label: `Undo: ${undoLabel}`, keys: 'Ctrl+Z', run: () => void undo() }]
      : []),
    ...(redoLabel
      ? [{ id: 'redo', label: `Redo: ${redoLabel}`, keys: 'Ctrl+Shift+Z', run: () => void redo() }]
      : []),
    ...(item?.kind === 'bus'
      ? shoots.map((s) => ({
          id: `grow-${s.name}`,
          label: `Grow ${s.label.toLowerCase()} at ${item.name}`,
          keys: 'G',
          run: () => void grow(item.id, s.name),
        }))
      : []),
    ...(item
      ? [{ id: 'remove', label: `Remove ${item.name}`, keys: 'Delete', run: () => void remove([item.id]) }]
      : []),
    ...(item ? [{ id: 'deselect', label: 'Select nothing', keys: 'Esc', run: () => select(null) }] : []),
    { id: 'worst', label: 'Go to the worst finding', keys: 'W', run: toWorst },
    { id: 'fit', label: 'Show everything', keys: 'F', run: fitSheet },
    { id: 'tidy', label: 'Lay the sheet out anew', run: () => void tidy() },
    {
      id: 'shelf',
      label: shelfOpen ? 'Fold the shelf' : 'Unfold the shelf',
      keys: 'B',
      run: () => set({ shelfOpen: !shelfOpen }),
    },
    {
      id: 'card',
      label: cardOpen ? 'Fold the card' : 'Unfold the card',
      keys: 'C',
      run: () => set({ cardOpen: !cardOpen }),
    },
    {
      id: 'findings',
      label: 'Shelf: findings',
      keys: '1',
      run: () => set({ shelf: 'findings', shelfOpen: true }),
    },
    { id: 'tables', label: 'Shelf: tables', keys: '2', run: () => set({ shelf: 'tables', shelfOpen: true }) },
    {
      id: 'logbook',
      label: 'Shelf: logbook',
      keys: '3',
      run: () => set({ shelf: 'logbook', shelfOpen: true }),
    },
    lens('both', 'voltage & loading'),
    lens('voltage', 'voltage'),
    lens('loading', 'loading'),
    lens('plain', 'none'),
    ...(['light', 'dark', 'system'] as const).map((t) => ({
      id: `theme-${t}`,
      label: `Theme: ${t === 'system' ? 'as the system' : t}`,
      run: () => useThemeChoice.getState().setChoice(t),
    })),
    { id: 'projects', label: 'All projects', run: overlays.openProjects },
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
    event.shiftKey && event.key.length > 1 ? 'Shift' : '',
  ]
  if ((event.ctrlKey || event.metaKey) && event.shiftKey && event.key.length === 1) parts[1] = 'Shift'
  const key = event.key === 'Escape' ? 'Esc' : event.key === 'Backspace' ? 'Delete' : event.key
  return [...parts.filter(Boolean), key.length === 1 ? key.toUpperCase() : key].join('+')
}

export const labelOfKind = (kinds: readonly Kind[], kind: string) =>
  kinds.find((k) => k.kind === kind)?.label ?? kind
