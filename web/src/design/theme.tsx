import monoMedium from '@ibm/plex-mono/fonts/complete/woff2/IBMPlexMono-Medium.woff2'
import monoRegular from '@ibm/plex-mono/fonts/complete/woff2/IBMPlexMono-Regular.woff2'
import sansMedium from '@ibm/plex-sans/fonts/complete/woff2/IBMPlexSans-Medium.woff2'
import sansRegular from '@ibm/plex-sans/fonts/complete/woff2/IBMPlexSans-Regular.woff2'
import sansSemi from '@ibm/plex-sans/fonts/complete/woff2/IBMPlexSans-SemiBold.woff2'
import { useEffect } from 'react'
import { createGlobalStyle, ThemeProvider } from 'styled-components'
import { create } from 'zustand'
import { dark, font, light, type Palette } from './tokens'

declare module 'styled-components' {
  export interface DefaultTheme extends Palette {}
}

/** The fonts that ship with the application, for pictures that carry them inside. */
export const fontFiles = [
  { family: 'IBM Plex Sans', weight: 400, url: sansRegular },
  { family: 'IBM Plex Sans', weight: 500, url: sansMedium },
  { family: 'IBM Plex Mono', weight: 400, url: monoRegular },
] as const

type Choice = 'system' | 'light' | 'dark'

interface ThemeState {
  choice: Choice
  setChoice: (choice: Choice) => void
}

const KEY = 'vast-mesh-theme'
const saved = localStorage.getItem(KEY)

export const useThemeChoice = create<ThemeState>((set) => ({
  choice: saved === 'light' || saved === 'dark' ? saved : 'system',
  setChoice: (choice) => {
    localStorage.setItem(KEY, choice)
    set({ choice })
  },
}))

const systemDark = () => matchMedia('(prefers-color-scheme: dark)').matches

export function usePalette(): Palette {
  const choice = useThemeChoice((s) => s.choice)
  return choice === 'dark' || (choice === 'system' && systemDark()) ? dark : light
}

export function Themed({ children }: { children: React.ReactNode }) {
  const palette = usePalette()
  useEffect(() => {
    document.documentElement.style.colorScheme = palette.name
  }, [palette])
  return (
    <ThemeProvider theme={palette}>
      <Global />
      {children}
    </ThemeProvider>
  )
}

const Global = createGlobalStyle`
  input[type='checkbox'], progress { accent-color: ${(p) => p.theme.accent}; }
  @font-face { font-family: 'IBM Plex Sans'; font-weight: 400; src: url(${sansRegular}) format('woff2'); }
  @font-face { font-family: 'IBM Plex Sans'; font-weight: 500; src: url(${sansMedium}) format('woff2'); }
  @font-face { font-family: 'IBM Plex Sans'; font-weight: 600; src: url(${sansSemi}) format('woff2'); }
  @font-face { font-family: 'IBM Plex Mono'; font-weight: 400; src: url(${monoRegular}) format('woff2'); }
  @font-face { font-family: 'IBM Plex Mono'; font-weight: 500; src: url(${monoMedium}) format('woff2'); }
  *, *::before, *::after { box-sizing: border-box; }
  html, body, #root { height: 100%; margin: 0; }
  body {
    background: ${(p) => p.theme.paper}; color: ${(p) => p.theme.ink};
    font: 400 13px/1.4 ${font.sans}; font-variant-numeric: tabular-nums; overflow: hidden;
  }
  button, input, select, textarea { font: inherit; color: inherit; }
  h1, h2, h3, p { margin: 0; }
  :focus-visible, [data-focus-visible] { outline: 2px solid ${(p) => p.theme.accent}; outline-offset: 1px; }
  ::selection { background: ${(p) => p.theme.accentWash}; }
  @media (prefers-reduced-motion: reduce) { *, *::before, *::after { animation: none !important; transition: none !important; } }
`
