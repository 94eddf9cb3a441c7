/** The command palette, the finder, the grow menu, and the keys that reach every command. */
import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { vocabularyQuery } from '../../api/queries'
import { busesOf, type Items } from '../../model/items'
import { pick } from '../../session/pick'
import { markFound, notify, select, useBench } from '../../session/store'
import { Ask } from './Ask'
import { Chooser } from './Chooser'
import { type Command, commandsFor, growCommands, keysOf, labelOfKind } from './commands'

export type OpenOverlay = 'none' | 'palette' | 'find' | 'grow'

/** What is reached elsewhere: in the condition bar and among the settings. */
const UNLISTED = new Set(['settings', 'condition', 'voltage_limits'])

const NOTHING: Items = new Map()

interface Props {
  readonly open: OpenOverlay
  readonly setOpen: (open: OpenOverlay) => void
  readonly onProjects: () => void
}

export function Palette({ open, setOpen, onProjects }: Props) {
  const vocabulary = useQuery(vocabularyQuery).data
  // Closed, it has nothing to do with what is edited.
  const items = useBench((s) => (open === 'find' ? s.items : NOTHING))
  const picking = useBench((s) => s.picking)
  // The list depends on what is selected and undoable; it is made anew whenever it opens.
  const commands = useMemo((): Command[] => {
    const overlays = {
      openPalette: () => setOpen('palette'),
      openFind: () => setOpen('find'),
      openProjects: onProjects,
    }
    return open === 'palette' || open === 'grow'
      ? commandsFor(vocabulary?.shoots ?? [], vocabulary?.kinds ?? [], overlays)
      : []
  }, [open, vocabulary, setOpen, onProjects])
  useKeys(setOpen, onProjects)
  const found = useMemo(
    () =>
      open !== 'find'
        ? []
        : [...items.values()]
            .filter((i) => !UNLISTED.has(i.kind))
            .filter((i) => !picking || i.kind === 'bus')
            .map((i) => ({
              id: i.id,
              label: i.name,
              detail: [
                labelOfKind(vocabulary?.kinds ?? [], i.kind),
                ...busesOf(i).map((b) => items.get(b)?.name ?? b),
              ].join(' · '),
              further: [i.id, i.type, i.note, ...((i.tags as string[] | undefined) ?? [])]
                .filter(Boolean)
                .join(' '),
            })),
    [open, items, vocabulary, picking],
  )
  const listed = commands.filter((c) => (open === 'grow' ? c.id.startsWith('grow-') : true))
  const run = (id: string) => commands.find((c) => c.id === id)?.run()
  return (
    <>
      <Chooser
        label={open === 'grow' ? 'Grow' : 'Commands'}
        placeholder={open === 'grow' ? 'Grow what?' : 'What would you like to do?'}
        isOpen={open === 'palette' || open === 'grow'}
        entries={listed.map((c) => ({
          id: c.id,
          label: open === 'grow' ? (c.short ?? c.label) : c.label,
          detail: open === 'grow' ? (c.meaning ?? '') : '',
          keys: open === 'grow' ? undefined : c.keys,
        }))}
        onClose={() => setOpen('none')}
        onChoose={run}
      />
      <Chooser
        label="Find"
        placeholder="Name of a bus, line, transformer, load …"
        isOpen={open === 'find'}
        entries={found}
        onClose={() => setOpen('none')}
        onAll={markFound}
        onChoose={(id) => {
          const picked = useBench.getState().picking && items.get(id)?.kind === 'bus'
          if (picked) pick(id)
          else select(id, { reveal: true })
        }}
      />
      <Ask />
    </>
  )
}

function useKeys(setOpen: (open: OpenOverlay) => void, onProjects: () => void) {
  const vocabulary = useQuery(vocabularyQuery).data
  const [overlays] = useState(() => ({
    openPalette: () => setOpen('palette'),
    openFind: () => setOpen('find'),
    openProjects: onProjects,
  }))
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement
      const typing =
        target.matches('input, textarea, [contenteditable]') &&
        !target.matches('input[type="range"], input[type="checkbox"]')
      const keys = keysOf(event)
      if (event.defaultPrevented || document.querySelector('[role="dialog"]')) return
      if (typing && !keys.startsWith('Ctrl+K')) return
      // Text that somebody marked is theirs to copy.
      if (keys === 'Ctrl+C' && String(window.getSelection())) return
      if (target.closest('[data-own-keys]')) return
      if (keys === 'G') {
        const { selected, items } = useBench.getState()
        const item = items.get(selected ?? '')
        // Always answered: what is typed next is meant for it, and must not be taken as commands.
        if (item && growCommands(item, vocabulary?.shoots ?? []).length) setOpen('grow')
        else notify('news', 'Select a bus, a line or what hangs from a bus: it grows there.')
      } else {
        const alias = keys === 'Ctrl+Y' ? 'Ctrl+Shift+Z' : keys
        const command = commandsFor(vocabulary?.shoots ?? [], vocabulary?.kinds ?? [], overlays).find(
          (c) => c.keys === alias,
        )
        if (!command) return
        command.run()
      }
      event.preventDefault()
    }
    window.addEventListener('keydown', press)
    return () => window.removeEventListener('keydown', press)
  }, [vocabulary, overlays, setOpen])
}
