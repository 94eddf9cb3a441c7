/** The shelf below the diagram: findings, tables, logbook. */
import { useQuery } from '@tanstack/react-query'
import { lazy, Suspense, useEffect, useState } from 'react'
import { TabPanel, Tabs } from 'react-aria-components'
import styled from 'styled-components'
import { checksQuery } from '../../api/queries'
import { IconButton, Tab, TabList } from '../../design/controls'
import { SummaryView } from '../../features/summary/SummaryView'
import { type ShelfView, useBench } from '../store'
import { Findings } from './Findings'
import { Logbook } from './Logbook'
import { Model } from './Model'
import { TablesView } from './TablesView'

// Views that are opened later come later: the first picture stands sooner.
const CatalogueView = lazy(async () => ({
  default: (await import('../../features/catalogue/CatalogueView')).CatalogueView,
}))
const ConditionsView = lazy(async () => ({
  default: (await import('../../features/conditions/ConditionsView')).ConditionsView,
}))
const PhasorsView = lazy(async () => ({
  default: (await import('../../features/phasors/PhasorsView')).PhasorsView,
}))
const RunsView = lazy(async () => ({ default: (await import('../../features/runs/RunsView')).RunsView }))
const StudiesView = lazy(async () => ({
  default: (await import('../../features/runs/StudiesView')).StudiesView,
}))
const SchemesView = lazy(async () => ({
  default: (await import('../../features/schemes/SchemesView')).SchemesView,
}))
const ProfileView = lazy(async () => ({
  default: (await import('../../features/profile/ProfileView')).ProfileView,
}))

const Frame = styled.section`
  background: ${(p) => p.theme.paper}; border-top: 1px solid ${(p) => p.theme.rule}; min-height: 0; display: flex; flex-direction: column;
  height: 100%;
  > [role='tablist'] { flex: none; }
`
const All = styled(Tabs)`
  outline: none !important;display: flex; flex-direction: column; min-height: 0; height: 100%;`
const Head = styled.div`
  display: flex; justify-content: space-between; align-items: center; padding: 0 8px 0 16px; flex: none; height: 34px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
`
const Count = styled.span<{ $breach: boolean }>`
  margin-left: 6px; padding: 0 7px; border-radius: 9px; font-size: 11.5px; font-weight: 500;
  background: ${(p) => (p.$breach ? p.theme.breach : p.theme.quiet)}; color: ${(p) => p.theme.panel};
`
const Body = styled(TabPanel)`min-height: 0; flex: 1; overflow: hidden; outline-offset: -3px;`

const Waiting = styled.p`padding: 14px 16px; color: ${(p) => p.theme.quiet};`

const QUIET_MS = 400

/** A number once it has stopped changing: the model check need not run between two steps of a slider. */
function useQuiet(value: number): number {
  const [quiet, setQuiet] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setQuiet(value), QUIET_MS)
    return () => clearTimeout(timer)
  }, [value])
  return quiet
}

function Later({ view: View }: { view: React.ComponentType }) {
  return (
    <Suspense fallback={<Waiting>…</Waiting>}>
      <View />
    </Suspense>
  )
}

export function Shelf() {
  const { shelf, shelfOpen, result, project, revision, shelfTall } = useBench()
  const settled = useQuiet(revision)
  const checks =
    useQuery({
      ...checksQuery(project?.id ?? '', settled),
      enabled: !!project,
      placeholderData: (last) => last,
    }).data ?? []
  const findings = result?.findings ?? []
  const toggle = () => useBench.setState({ shelfOpen: !shelfOpen })
  return (
    <Frame aria-label="Shelf">
      <All
        selectedKey={shelf}
        onSelectionChange={(k) => useBench.setState({ shelf: k as ShelfView, shelfOpen: true })}
      >
        <Head>
          <TabList aria-label="Shelf">
            <Tab id="findings">
              Findings{' '}
              <Count $breach={findings.some((f) => f.severity === 'breach')}>{findings.length}</Count>
            </Tab>
            <Tab id="profile">Profile</Tab>
            <Tab id="tables">Tables</Tab>
            <Tab id="phasors">Phasors</Tab>
            <Tab id="schemes">Schemes</Tab>
            <Tab id="summary">Summary</Tab>
            <Tab id="conditions">Conditions</Tab>
            <Tab id="studies">Studies</Tab>
            <Tab id="runs">Runs</Tab>
            <Tab id="model">
              Model
              {checks.length > 0 && (
                <Count $breach={checks.some((c) => c.severity === 'breach')}>{checks.length}</Count>
              )}
            </Tab>
            <Tab id="catalogue">Catalogue</Tab>
            <Tab id="logbook">Logbook</Tab>
          </TabList>
          <span style={{ display: 'flex' }}>
            <IconButton
              icon={shelfTall ? 'minus' : 'fit'}
              label={shelfTall ? 'Lower the shelf' : 'Raise the shelf'}
              keys="Shift+B"
              onPress={() => useBench.setState({ shelfTall: !shelfTall, shelfOpen: true })}
            />
            <IconButton
              icon={shelfOpen ? 'down' : 'up'}
              label={shelfOpen ? 'Fold the shelf' : 'Unfold the shelf'}
              keys="B"
              onPress={toggle}
            />
          </span>
        </Head>
        <Body id="findings">{shelfOpen && <Findings findings={findings} />}</Body>
        <Body id="profile">{shelfOpen && <Later view={ProfileView} />}</Body>
        <Body id="summary">{shelfOpen && <SummaryView />}</Body>
        <Body id="conditions">{shelfOpen && <Later view={ConditionsView} />}</Body>
        <Body id="studies">{shelfOpen && <Later view={StudiesView} />}</Body>
        <Body id="runs">{shelfOpen && <Later view={RunsView} />}</Body>
        <Body id="model">{shelfOpen && <Model checks={checks} />}</Body>
        <Body id="catalogue">{shelfOpen && <Later view={CatalogueView} />}</Body>
        <Body id="phasors">{shelfOpen && <Later view={PhasorsView} />}</Body>
        <Body id="schemes">{shelfOpen && <Later view={SchemesView} />}</Body>
        <Body id="tables">{shelfOpen && <TablesView />}</Body>
        <Body id="logbook">{shelfOpen && <Logbook />}</Body>
      </All>
    </Frame>
  )
}
