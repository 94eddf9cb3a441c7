/** The shelf below the diagram: desks at its left, the views of the desk in use as tabs, perhaps two beside each other. */
import { TabPanel, Tabs } from 'react-aria-components'
import styled from 'styled-components'
import { IconButton, Pick, Tab, TabList } from '../design/controls'
import type { Height } from '../model/prefs'
import { useBench } from '../session/store'
import { layBeside, openDesk, openView, setHeight, toggleBeside, useDesk } from './desks'
import { DESKS, type Desk, useViews, type View, viewNamed } from './registry'

const Frame = styled.section`
  background: ${(p) => p.theme.paper}; border-top: 1px solid ${(p) => p.theme.rule}; min-height: 0; height: 100%;
  display: grid; grid-template-columns: 84px minmax(0, 1fr);
`
const Rail = styled.nav`
  display: flex; flex-direction: column; border-right: 1px solid ${(p) => p.theme.rule}; padding: 5px 0; min-height: 0; overflow-y: auto;
  .desk {
    display: flex; align-items: center; justify-content: space-between; gap: 4px; border: none; background: transparent; text-align: left;
    padding: 0 8px 0 13px; min-height: 24px; flex: 0 1 33px; color: ${(p) => p.theme.quiet}; border-left: 3px solid transparent; outline-offset: -3px;
  }
  .desk:hover { color: ${(p) => p.theme.ink}; }
  .desk[aria-current='true'] { color: ${(p) => p.theme.ink}; font-weight: 500; background: ${(p) => p.theme.panel}; border-left-color: ${(p) => p.theme.accent}; }
`
const Folded = styled(Rail)`
  flex-direction: row; grid-column: 1 / -1; border: none; padding: 0 8px 0 3px; align-items: center; overflow: hidden;
  .space { flex: 1; }
  .desk[aria-current='true'] { background: transparent; border-left-color: transparent; }
`
const All = styled(
  Tabs,
)`outline: none !important; display: flex; flex-direction: column; min-height: 0; height: 100%;`
const Head = styled.div`
  display: flex; gap: 12px; align-items: center; padding: 0 8px 0 16px; flex: none; height: 34px; min-width: 0; border-bottom: 1px solid ${(p) => p.theme.rule};
  > [role='tablist'] { flex: 1; min-width: 0; overflow-x: auto; scrollbar-width: none; } [role='tab'] { white-space: nowrap; }
`
const Acts = styled.span`display: flex; align-items: center; flex: none;`
const Heights = styled.span`
  display: flex; margin: 0 3px;
  button { border: none; background: transparent; width: 26px; min-height: 26px; padding: 0; display: grid; place-items: center; border-radius: 4px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { color: ${(p) => p.theme.accent}; background: ${(p) => p.theme.accentWash}; } button:hover { color: ${(p) => p.theme.ink}; }
`
const Count = styled.span<{ $serious: boolean }>`
  padding: 0 6px; border-radius: 9px; font-size: 11px; font-weight: 500; line-height: 17px;
  background: ${(p) => (p.$serious ? p.theme.breach : p.theme.quiet)}; color: ${(p) => p.theme.panel};
  [role='tab'] > & { margin-left: 6px; }
`
const Bodies = styled.div<{ $two: boolean }>`
  min-height: 0; flex: 1; display: grid; grid-template-columns: ${(p) => (p.$two ? 'minmax(0, 1fr) minmax(0, 1fr)' : 'minmax(0, 1fr)')};
`
const Body = styled(TabPanel)`min-height: 0; overflow: hidden; outline-offset: -3px; container-type: size;`
const Second = styled.section`
  display: grid; grid-template-rows: 30px minmax(0, 1fr); min-height: 0; border-left: 1px solid ${(p) => p.theme.rule};
  > header { display: flex; align-items: center; justify-content: space-between; padding: 0 6px 0 10px; border-bottom: 1px solid ${(p) => p.theme.rule}; }
  > div { min-height: 0; overflow: hidden; container-type: size; }
`

const HEIGHTS: readonly { readonly id: Height; readonly label: string; readonly share: number }[] = [
  { id: 'third', label: 'A third of the height', share: 4 },
  { id: 'half', label: 'Half of the height', share: 7 },
  { id: 'all', label: 'All of the height', share: 12 },
]

function Mark({ useCount }: { useCount: NonNullable<View['useCount']> }) {
  const { count, serious } = useCount()
  return count > 0 ? <Count $serious={serious}>{count}</Count> : null
}

function DeskButton({ desk, current, counted }: { desk: Desk; current: boolean; counted: boolean }) {
  const views = useViews()
  return (
    <button
      type="button"
      className="desk"
      aria-current={current}
      title={`${desk.about} (${desk.keys})`}
      onClick={() => openDesk(desk.id)}
    >
      {desk.label}
      {counted &&
        views
          .filter((v) => v.desk === desk.id)
          .map((v) => v.useCount && <Mark key={v.id} useCount={v.useCount} />)}
    </button>
  )
}

export function Shelf() {
  const shelf = useBench((s) => s.shelf)
  const shelfOpen = useBench((s) => s.shelfOpen)
  const all = useViews()
  const { desk, height, beside } = useDesk()
  const views = all.filter((v) => v.desk === desk)
  const view = viewNamed(shelf)
  const second = beside && beside !== shelf ? all.find((v) => v.id === beside) : undefined
  const desks = DESKS.map((d) => (
    <DeskButton key={d.id} desk={d} current={d.id === desk} counted={!shelfOpen || d.id !== desk} />
  ))
  const fold = (
    <IconButton
      icon={shelfOpen ? 'down' : 'up'}
      label={shelfOpen ? 'Fold the shelf' : 'Unfold the shelf'}
      keys="B"
      onPress={() => useBench.setState({ shelfOpen: !shelfOpen })}
    />
  )
  if (!shelfOpen)
    return (
      <Frame aria-label="Shelf">
        <Folded aria-label="Desks">
          {desks}
          <span className="space" />
          {fold}
        </Folded>
      </Frame>
    )
  return (
    <Frame aria-label="Shelf">
      <Rail aria-label="Desks">{desks}</Rail>
      <All selectedKey={shelf} onSelectionChange={(k) => openView(String(k))}>
        <Head>
          <TabList aria-label="Views">
            {views.map((v) => (
              <Tab id={v.id} key={v.id}>
                {v.label}
                {v.useCount && <Mark useCount={v.useCount} />}
              </Tab>
            ))}
          </TabList>
          <Acts>
            <IconButton
              icon="beside"
              label={second ? 'One view alone' : 'Lay a second view beside'}
              onPress={toggleBeside}
            />
            <Heights role="group" aria-label="Height of the shelf">
              {HEIGHTS.map((h) => (
                <button
                  type="button"
                  key={h.id}
                  aria-label={h.label}
                  title={`${h.label} (Shift+B)`}
                  aria-pressed={h.id === height}
                  onClick={() => setHeight(h.id)}
                >
                  <svg width={14} height={14} viewBox="0 0 14 14" aria-hidden="true">
                    <rect x={0.5} y={0.5} width={13} height={13} fill="none" stroke="currentColor" />
                    <rect x={1} y={13 - h.share} width={12} height={h.share} fill="currentColor" />
                  </svg>
                </button>
              ))}
            </Heights>
            {fold}
          </Acts>
        </Head>
        <Bodies $two={!!second}>
          {view && (
            <Body id={shelf} key={shelf}>
              <view.Body />
            </Body>
          )}
          {second && (
            <Second aria-label={`Beside: ${second.label}`}>
              <header>
                <Pick
                  label="View beside"
                  hideLabel
                  value={second.id}
                  choices={all.filter((v) => v.id !== shelf).map((v) => ({ id: v.id, label: v.label }))}
                  onChange={layBeside}
                />
                <IconButton icon="close" label="One view alone" onPress={() => layBeside(undefined)} />
              </header>
              <div>
                <second.Body />
              </div>
            </Second>
          )}
        </Bodies>
      </All>
    </Frame>
  )
}
