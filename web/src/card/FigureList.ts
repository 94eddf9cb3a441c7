import styled from 'styled-components'
import { font } from '../design/tokens'

/** Rows of name, figure and unit. */
export const FigureList = styled.dl`
  display: grid; grid-template-columns: 1fr auto 44px; margin: 0;
  dt, dd { margin: 0; padding: 5px 0; border-bottom: 1px solid ${(p) => p.theme.rule}; }
  dt { color: ${(p) => p.theme.quiet}; }
  dd { font: 400 12.5px ${font.mono}; text-align: right; }
  dd + dd { text-align: left; padding-left: 6px; color: ${(p) => p.theme.quiet}; }
`
