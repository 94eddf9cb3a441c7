/** The bench: everything about one open project on one screen. */
import { memo, useCallback, useState } from 'react'
import styled from 'styled-components'
import { useShallow } from 'zustand/react/shallow'
import type { Imported } from './api/client'
import { ConditionBar } from './bar/ConditionBar'
import { JobsMark } from './bar/JobsMark'
import { Card } from './card/Card'
import { IconButton, Kbd, Plain } from './design/controls'
import { Icon } from './design/Icon'
import { usePalette, useThemeChoice } from './design/theme'
import { LabelsDialog } from './features/labels/LabelsDialog'
import { type OpenOverlay, Palette } from './features/palette/Palette'
import { PictureDialog } from './features/picture/PictureDialog'
import { ProjectMenu } from './features/projects/ProjectMenu'
import { redo, undo } from './session/queue'
import { dismiss, useBench } from './session/store'
import { Sheet } from './sheet/Sheet'
import { useDesk } from './shelf/desks'
import { Shelf } from './shelf/Shelf'
import { useStudyPages } from './studies/pages'
import './views'

const HEIGHTS = {
  third: 'max(266px, 34vh)',
  half: 'max(266px, calc((100vh - 90px) / 2))',
  all: 'minmax(0, 1fr)',
}

const Frame = styled.div<{ $card: boolean; $height: keyof typeof HEIGHTS | 'folded' }>`
  display: grid; height: 100%; grid-template-columns: minmax(0, 1fr) ${(p) => (p.$card ? '306px' : p.$height === 'all' ? '250px' : '0')};
  grid-template-rows: 44px auto ${(p) => (p.$height === 'all' ? '200px' : 'minmax(0, 1fr)')} ${(p) => (p.$height === 'folded' ? '35px' : HEIGHTS[p.$height])};
  > header, > .condition { grid-column: 1 / -1; }
  > .card { grid-column: 2; grid-row: 3 / 5; min-height: 0; display: ${(p) => (p.$card ? 'grid' : 'none')}; }
  > .sheet { grid-column: 1; grid-row: 3; min-height: 0; position: relative; }
  > .shelf { grid-column: 1; grid-row: 4; min-height: 0; }
  /* The whole height for a desk: the sheet stays as an inset above the card. */
  &[data-inset] > .sheet { grid-column: 2; border-left: 1px solid ${(p) => p.theme.rule}; border-bottom: 1px solid ${(p) => p.theme.rule}; }
  &[data-inset] > .shelf { grid-row: 3 / 5; } &[data-inset] > .card { grid-row: 4; }
`
const Top = styled.header`
  display: flex; align-items: center; gap: 6px; padding: 0 12px 0 16px; background: ${(p) => p.theme.paper};
  border-bottom: 1px solid ${(p) => p.theme.rule};
  h1 { font-size: 15px; font-weight: 600; margin-right: 10px; white-space: nowrap; }
  .space { flex: 1; }
`
const Arrangement = styled.div`
  display: flex; border: 1px solid ${(p) => p.theme.rule}; border-radius: 5px; overflow: hidden; margin: 0 6px 0 10px;
  button { border: none; background: transparent; padding: 0 10px; min-height: 26px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
  button:focus-visible { outline-offset: -2px; }
`
const Find = styled(Plain)`
  width: 210px; justify-content: space-between; border: 1px solid ${(p) => p.theme.rule}; background: ${(p) => p.theme.panel};
  color: ${(p) => p.theme.quiet};
`
const Notices = styled.div`position: fixed; left: 16px; bottom: 16px; display: flex; flex-direction: column; gap: 8px; z-index: 40; max-width: 520px;`
const Toast = styled.div<{ $problem: boolean }>`
  display: flex; gap: 10px; align-items: flex-start; padding: 9px 10px 9px 14px; border-radius: 6px; background: ${(p) => p.theme.panel};
  border: 1px solid ${(p) => (p.$problem ? p.theme.breach : p.theme.rule)}; box-shadow: 0 4px 18px rgb(0 0 0 / 0.16);
  border-left-width: 4px;
`

/** The large parts look after themselves: they are drawn anew only when something of theirs has changed. */
const Parts = {
  Card: memo(Card),
  ConditionBar: memo(ConditionBar),
  Sheet: memo(Sheet),
  Shelf: memo(Shelf),
  Palette: memo(Palette),
}

interface Props {
  readonly onOpen: (id: string) => void
  readonly onProjects: () => void
  readonly onImported: (imported: Imported) => void
}

export function Bench(props: Props) {
  const [overlay, setOverlay] = useState<OpenOverlay>('none')
  const { cardOpen, shelfOpen, undoLabel, redoLabel, arrangement, ready } = useBench(
    useShallow((s) => ({
      cardOpen: s.cardOpen,
      shelfOpen: s.shelfOpen,
      undoLabel: s.undoLabel,
      redoLabel: s.redoLabel,
      arrangement: s.arrangement,
      ready: !!(s.project && (s.result || s.failed)),
    })),
  )
  const { height } = useDesk()
  const inset = shelfOpen && height === 'all'
  useStudyPages()
  const growMenu = useCallback(() => setOverlay('grow'), [])
  const dark = usePalette().name === 'dark'
  const setChoice = useThemeChoice((s) => s.setChoice)
  const toggleCard = () => useBench.setState({ cardOpen: !cardOpen })
  return (
    <Frame
      $card={cardOpen}
      $height={shelfOpen ? height : 'folded'}
      data-inset={inset || undefined}
      data-ready={ready ? 'yes' : 'no'}
    >
      <Top>
        <h1>Vast Mesh</h1>
        <ProjectMenu {...props} />
        <IconButton
          icon="undo"
          label={undoLabel ? `Undo: ${undoLabel}` : 'Nothing to undo'}
          keys="Ctrl+Z"
          isDisabled={!undoLabel}
          onPress={() => void undo()}
        />
        <IconButton
          icon="redo"
          label={redoLabel ? `Redo: ${redoLabel}` : 'Nothing to redo'}
          keys="Ctrl+Shift+Z"
          isDisabled={!redoLabel}
          onPress={() => void redo()}
        />
        <Arrangement role="group" aria-label="Arrangement">
          {(['schematic', 'map'] as const).map((a) => (
            <button
              type="button"
              key={a}
              aria-pressed={arrangement === a}
              onClick={() => useBench.setState({ arrangement: a })}
            >
              {a === 'map' ? 'Map' : 'Schematic'}
            </button>
          ))}
        </Arrangement>
        <Plain onPress={() => useBench.setState({ dialog: 'labels' })}>Labels</Plain>
        <Plain onPress={() => useBench.setState({ dialog: 'picture' })}>Picture</Plain>
        <span className="space" />
        <JobsMark />
        <Find onPress={() => setOverlay('find')}>
          Find anything <Kbd>/</Kbd>
        </Find>
        <IconButton icon="palette" label="All commands" keys="Ctrl+K" onPress={() => setOverlay('palette')} />
        <IconButton
          icon={dark ? 'sun' : 'moon'}
          label={dark ? 'Light theme' : 'Dark theme'}
          onPress={() => setChoice(dark ? 'light' : 'dark')}
        />
        <Plain
          aria-label={cardOpen ? 'Fold the card' : 'Unfold the card'}
          onPress={toggleCard}
          style={{ width: 28, padding: 0, justifyContent: 'center' }}
        >
          <span style={{ display: 'flex', transform: cardOpen ? undefined : 'rotate(180deg)' }}>
            <Icon name="right" />
          </span>
        </Plain>
      </Top>
      <div className="condition">
        <Parts.ConditionBar />
      </div>
      <main className="sheet">
        <Parts.Sheet growMenu={growMenu} inset={inset} />
      </main>
      <div className="card">{cardOpen && <Parts.Card />}</div>
      <div className="shelf">
        <Parts.Shelf />
      </div>
      <Parts.Palette open={overlay} setOpen={setOverlay} onProjects={props.onProjects} />
      <LabelsDialog />
      <PictureDialog />
      <NoticeList />
    </Frame>
  )
}

function NoticeList() {
  const notices = useBench((s) => s.notices)
  return (
    <Notices aria-live="polite">
      {notices.map((n) => (
        <Toast key={n.id} $problem={n.tone === 'problem'} role={n.tone === 'problem' ? 'alert' : 'status'}>
          <span>{n.text}</span>
          <IconButton icon="close" label="Dismiss" onPress={() => dismiss(n.id)} />
        </Toast>
      ))}
    </Notices>
  )
}
