/** What a page does when a cell of one of its plots is taken: it says whether it did anything. */
import { createContext } from 'react'

export type TakeCell = (figure: string, x: string, y: string) => boolean
export const CellTaken = createContext<TakeCell | null>(null)
