/** The row of tables to choose from, above a table. */
import styled from 'styled-components'

export const Frame = styled.div`display: grid; grid-template-rows: auto minmax(0, 1fr); height: 100%;`
export const Bar = styled.div`
  display: flex; gap: 4px; padding: 4px 12px; align-items: center; overflow-x: auto; scrollbar-width: none; white-space: nowrap; i { color: ${(p) => p.theme.quiet}; padding: 0 4px 0 12px; } border-bottom: 1px solid ${(p) => p.theme.rule};
  button { border: none; background: transparent; padding: 2px 8px; border-radius: 4px; color: ${(p) => p.theme.quiet}; }
  button[aria-pressed='true'] { background: ${(p) => p.theme.accentWash}; color: ${(p) => p.theme.ink}; font-weight: 500; }
`
