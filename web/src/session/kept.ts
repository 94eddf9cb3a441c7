/** View state that outlives its view: what was typed or chosen is there again after another tab or a folded shelf. */
import { useCallback } from 'react'
import { create } from 'zustand'

const useStore = create<Record<string, unknown>>(() => ({}))

/** Like React's own state, under a name; forgotten when another project is opened. */
export function useKept<T>(name: string, initial: T): [T, (value: T) => void] {
  const value = useStore((s) => (name in s ? (s[name] as T) : initial))
  const put = useCallback((next: T) => useStore.setState({ [name]: next }), [name])
  return [value, put]
}

export const forgetKept = () => useStore.setState({}, true)
