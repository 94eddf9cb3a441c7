/** What feeds an element, what it feeds, and what a switch would change. */
import { useQuery } from '@tanstack/react-query'
import styled from 'styled-components'
import { supplyQuery } from '../api/queries'
import { Button } from '../design/controls'
import { power } from '../design/format'
import { busesOf, type Item } from '../model/items'
import { selectFed } from '../session/arrange'
import { throwSwitch } from '../session/edits'
import { selectMany, useBench, useParts } from '../session/store'
import { BusLink } from './Card'

const Head = styled.h3`font-size: 12px; font-weight: 500; color: ${(p) => p.theme.quiet}; margin: 12px 0 3px;`
const Path = styled.ol`
  list-style: none; margin: 0; padding: 0 0 0 12px; border-left: 2px solid ${(p) => p.theme.rule};
  li { padding: 2px 0; display: flex; justify-content: space-between; gap: 8px; } .kind { color: ${(p) => p.theme.quiet}; font-size: 12px; }
`
const Say = styled.p`margin-bottom: 6px;`

const LONG = 14

export function Supply({ item }: { item: Item }) {
  const { project, revision, items } = useParts('project', 'revision', 'items')
  const { data, isError } = useQuery({
    ...supplyQuery(project?.id ?? '', revision, item.id),
    enabled: !!project,
    placeholderData: (last) => last,
  })
  if (isError) return <Say>The supply could not be traced.</Say>
  if (!data) return <Say>Tracing …</Say>
  const feeder = data.feeder ? items.get(data.feeder)?.name : null
  return (
    <>
      <Say>
        {data.live ? 'It has a supply' : 'It has no supply'}
        {feeder ? `, on feeder ${feeder}.` : '.'}
      </Say>
      {data.live && data.path.length > 1 && (
        <>
          <Head>Fed through</Head>
          <Chain ids={data.path} />
        </>
      )}
      {(item.kind === 'bus' || busesOf(item).length > 1 || item.kind === 'source') && (
        <>
          <Head>Fed from here alone</Head>
          <Say>
            {data.buses.length
              ? `${data.buses.length} buses, ${data.loads} loads and machines, ${power(data.demand_mw)} demand, ${data.customers} customers.`
              : 'Nothing: all of it has another way, or there is nothing behind it.'}
          </Say>
          {data.buses.length > 0 && <Button onPress={() => void selectFed(item.id)}>Select it (D)</Button>}
        </>
      )}
      {data.thrown && <Thrown item={item} thrown={data.thrown} />}
    </>
  )
}

function Thrown({
  item,
  thrown,
}: {
  item: Item
  thrown: NonNullable<import('../api/client').Supply['thrown']>
}) {
  const opens = item.closed !== false
  const lost = thrown.loses.length
  return (
    <>
      <Head>If it were {opens ? 'opened' : 'closed'}</Head>
      <Say>
        {lost > 0 &&
          `${lost} buses would lose their supply: ${thrown.customers} customers, ${power(thrown.demand_mw)}.`}
        {thrown.gains.length > 0 && `${thrown.gains.length} buses would get a supply.`}
        {!lost &&
          !thrown.gains.length &&
          (opens ? 'Everything stays supplied, by the path below.' : 'Nothing would gain or lose supply.')}
      </Say>
      {lost > 0 && <Button onPress={() => selectMany(thrown.loses, { reveal: true })}>Show them</Button>}{' '}
      <Button onPress={() => throwSwitch(item.id)}>{opens ? 'Open it' : 'Close it'} (O)</Button>
      {!lost && thrown.path.length > 1 && <Chain ids={thrown.path} />}
    </>
  )
}

/** From the element to its source; the middle of a long way is counted. */
function Chain({ ids }: { ids: readonly string[] }) {
  const items = useBench((s) => s.items)
  const shown = ids.length > LONG ? [...ids.slice(0, LONG - 4), ...ids.slice(-3)] : ids
  return (
    <Path>
      {shown.map((id, n) => (
        <li key={id}>
          <BusLink id={id} />
          <span className="kind">
            {ids.length > LONG && n === LONG - 5
              ? `${ids.length - shown.length} between`
              : items.get(id)?.kind.replaceAll('_', ' ')}
          </span>
        </li>
      ))}
    </Path>
  )
}
