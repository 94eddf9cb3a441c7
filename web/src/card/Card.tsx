/** The card about the selected element: its data, edited in place, and its results. */
import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { TabPanel, Tabs } from 'react-aria-components'
import styled from 'styled-components'
import { vocabularyQuery } from '../api/queries'
import { IconButton, Tab, TabList, TextInput } from '../design/controls'
import { fixed } from '../design/format'
import { Mark } from '../design/Icon'
import { busesOf, type Item } from '../model/items'
import { remove } from '../session/edits'
import { updateOrTell } from '../session/queue'
import { select, useBench, useItem } from '../session/store'
import { DataForm } from './DataForm'
import { Overview } from './Overview'
import { Results } from './Results'
import { Several } from './Several'
import { Supply } from './Supply'
import { Workings } from './Workings'

const Panel = styled.aside`
  background: ${(p) => p.theme.paper}; border-left: 1px solid ${(p) => p.theme.rule}; overflow-y: auto; padding: 12px 16px 24px;
  min-height: 0;
`
const Head = styled.header`
  display: flex; gap: 6px; align-items: flex-start; justify-content: space-between;
  h2 { font-size: 16px; font-weight: 600; line-height: 1.25; overflow-wrap: anywhere; }
  p { color: ${(p) => p.theme.quiet}; }
  div:last-child { display: flex; flex: none; margin: -3px -8px 0 0; }
`
const Bar = styled.div`border-bottom: 1px solid ${(p) => p.theme.rule}; margin: 8px 0 10px;`
const Alert = styled.div<{ $breach: boolean }>`
  display: flex; gap: 8px; padding: 7px 10px; margin-bottom: 8px; background: ${(p) => p.theme.panel};
  border-left: 3px solid ${(p) => (p.$breach ? p.theme.breach : p.theme.watch)};
  b, svg { color: ${(p) => (p.$breach ? p.theme.breach : p.theme.watchInk)}; font-weight: 500; flex: none; }
  svg { margin-top: 2px; }
`

export function Card() {
  const id = useBench((s) => s.selected)
  const item = useItem(id)
  const chosen = useBench((s) => s.chosen)
  return (
    <Panel aria-label="Card">
      {chosen.size > 1 ? (
        <Several ids={[...chosen]} />
      ) : item ? (
        <About key={item.id} item={item} />
      ) : (
        <Overview />
      )}
    </Panel>
  )
}

const Rename = styled(
  TextInput,
)`height: 26px; font-size: 15px; font-weight: 600; margin: -2px 0 2px -6px; padding: 0 5px;`

/** The name, typed over after a double click or F2. */
function Name({ item }: { item: Item }) {
  const renaming = useBench((s) => s.renaming === item.id)
  const stop = () => useBench.setState({ renaming: null })
  if (!renaming) return <h2 onDoubleClick={() => useBench.setState({ renaming: item.id })}>{item.name}</h2>
  const keep = (name: string) => {
    stop()
    if (name.trim() && name !== item.name)
      void updateOrTell(item, { name: name.trim() }, `Rename ${item.name}`)
  }
  return (
    <Rename
      aria-label="Name"
      defaultValue={item.name}
      maxLength={80}
      ref={(el: HTMLInputElement | null) => {
        if (el && document.activeElement !== el) el.select()
      }}
      onBlur={(e) => keep(e.currentTarget.value)}
      onKeyDown={(e) => {
        e.stopPropagation()
        if (e.key === 'Enter') e.currentTarget.blur()
        if (e.key === 'Escape') {
          e.currentTarget.value = item.name
          e.currentTarget.blur()
        }
      }}
    />
  )
}

function About({ item }: { item: Item }) {
  const kind = useQuery(vocabularyQuery).data?.kinds.find((k) => k.kind === item.kind)
  const result = useBench((s) => s.result)
  const findings = (result?.findings ?? []).filter((f) => f.element === item.id)
  const removable = kind?.removable
  const [tab, setTab] = useState('data')
  const asked = useBench((s) => s.asked === item.id)
  useEffect(() => {
    if (!asked) return
    setTab('workings')
    useBench.setState({ asked: null })
  }, [asked])
  return (
    <>
      <Head>
        <div>
          <Name key={item.id} item={item} />
          <p>
            {kind?.label ?? item.kind}
            {busesOf(item).map((bus, i) => (
              <BusLink key={bus} id={bus} before={i ? ' – ' : ' · '} />
            ))}
          </p>
        </div>
        <div>
          {removable && (
            <IconButton
              icon="bin"
              label={`Remove ${item.name}`}
              keys="Delete"
              onPress={() => remove([item.id])}
            />
          )}
          <IconButton icon="close" label="Close the card" keys="Esc" onPress={() => select(null)} />
        </div>
      </Head>
      <Tabs selectedKey={tab} onSelectionChange={(k) => setTab(String(k))}>
        <Bar>
          <TabList aria-label="Card">
            <Tab id="data">Data</Tab>
            {kind?.element && <Tab id="results">Results</Tab>}
            <Tab id="workings">Workings</Tab>
            {kind?.element && <Tab id="supply">Supply</Tab>}
          </TabList>
        </Bar>
        {findings.map((f) => (
          <Alert key={f.quantity} $breach={f.severity === 'breach'}>
            <Mark severity={f.severity} direction={f.direction} />
            <span>
              {typeof f.value === 'number' && (
                <b>
                  {fixed(f.value, f.unit === 'p.u.' ? 3 : 1)} {f.unit}{' '}
                </b>
              )}
              {f.text}
            </span>
          </Alert>
        ))}
        <TabPanel id="data">{kind && <DataForm item={item} kind={kind} />}</TabPanel>
        {kind?.element && (
          <TabPanel id="results">
            <Results item={item} />
          </TabPanel>
        )}
        <TabPanel id="workings">
          <Workings item={item} />
        </TabPanel>
        {kind?.element && (
          <TabPanel id="supply">
            <Supply item={item} />
          </TabPanel>
        )}
      </Tabs>
    </>
  )
}

const Link = styled.button`
  border: none; background: none; padding: 0; color: ${(p) => p.theme.accent}; cursor: pointer; text-align: left;
  &:hover { text-decoration: underline; }
`

export function BusLink({ id, before = '' }: { id: string; before?: string }) {
  const item = useItem(id)
  return (
    <>
      {before}
      <Link type="button" onClick={() => select(id, { reveal: true })}>
        {item?.name ?? id}
      </Link>
    </>
  )
}
