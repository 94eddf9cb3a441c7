/** All that was done, in order. */
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import styled from 'styled-components'
import { journalQuery } from '../../api/queries'
import { font } from '../../design/tokens'
import { select, useParts } from '../../session/store'

const Scroll = styled.div`height: 100%; overflow-y: auto; &:focus-visible { outline-offset: -3px; }`
const List = styled.ol`list-style: none; margin: 0; padding: 0;`
const Row = styled.li`
  display: grid; grid-template-columns: 48px 150px minmax(0, 1fr) auto; gap: 12px; padding: 5px 16px; align-items: center;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  .figure { font: 400 12px ${font.mono}; color: ${(p) => p.theme.quiet}; }
  button { border: none; background: none; padding: 0; color: ${(p) => p.theme.accent}; cursor: pointer; }
`
const None = styled.p`padding: 16px; color: ${(p) => p.theme.quiet};`

const when = (iso: string) =>
  new Date(iso).toLocaleString(undefined, {
    day: '2-digit',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
  })

export function Logbook() {
  const { project, revision, items } = useParts('project', 'revision', 'items')
  const { data, isError } = useQuery({
    ...journalQuery(project?.id ?? '', revision),
    enabled: !!project,
    placeholderData: keepPreviousData,
  })
  if (isError) return <None>The logbook could not be read.</None>
  if (!data?.length)
    return <None>Nothing has been changed yet. Every change will stand here, undo included.</None>
  return (
    <Scroll tabIndex={0} role="region" aria-label="Logbook">
      <List>
        {[...data].reverse().map((line) => {
          const first = line.items.find((i) => items.has(i))
          return (
            <Row key={line.revision}>
              <span className="figure">{line.revision}</span>
              <span className="figure">{when(line.at)}</span>
              <span>{line.label}</span>
              {first ? (
                <button type="button" onClick={() => select(first, { reveal: true })}>
                  {items.get(first)?.name}
                </button>
              ) : (
                <span />
              )}
            </Row>
          )
        })}
      </List>
    </Scroll>
  )
}
