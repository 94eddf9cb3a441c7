/** A list to type into: the palette and the finder are both made of it. */
import { useMemo, useState } from 'react'
import { Autocomplete, Input, ListBox, ListBoxItem, SearchField, useFilter } from 'react-aria-components'
import styled from 'styled-components'
import { Button, Dialog, Kbd } from '../../design/controls'

export interface Entry {
  readonly id: string
  readonly label: string
  readonly detail: string
  readonly keys?: string | undefined
  /** What else it can be found by. */
  readonly further?: string
}

const Search = styled(SearchField)`
  padding: 10px 12px; border-bottom: 1px solid ${(p) => p.theme.rule};
  input { width: 100%; height: 32px; border: none; background: transparent; font-size: 15px; outline: none; }
  input::-webkit-search-cancel-button { display: none; }
`
const Scroll = styled.div`max-height: 52vh; overflow: auto;`
const Options = styled(ListBox)`padding: 6px; outline: none;` as typeof ListBox
const Option = styled(ListBoxItem)`
  display: flex; gap: 12px; align-items: baseline; padding: 5px 10px; border-radius: 4px; cursor: default; outline: none;
  .detail { color: ${(p) => p.theme.quiet}; margin-left: auto; }
  &[data-focused], &[data-hovered] { background: ${(p) => p.theme.accentWash}; }
`
const All = styled.div`display: flex; justify-content: space-between; align-items: center; padding: 6px 16px; color: ${(p) => p.theme.quiet}; border-bottom: 1px solid ${(p) => p.theme.rule};`
const None = styled.p`padding: 10px; color: ${(p) => p.theme.quiet};`

const MOST = 200

export function Chooser(props: {
  label: string
  placeholder: string
  entries: readonly Entry[]
  isOpen: boolean
  onClose: () => void
  onChoose: (id: string) => void
  /** Take all that fit, where that makes sense. */
  onAll?: (ids: string[]) => void
}) {
  const [typed, setTyped] = useState('')
  const { contains } = useFilter({ sensitivity: 'base' })
  const { entries } = props
  const shown = useMemo(() => {
    const words = typed.split(/\s+/).filter(Boolean)
    const hits = entries.filter((e) =>
      words.every((w) => contains(`${e.label} ${e.detail} ${e.further ?? ''}`, w)),
    )
    const low = typed.trim().toLowerCase()
    const rank = (e: Entry) => {
      const name = e.label.toLowerCase()
      return !low || name === low ? 0 : name.startsWith(low) ? 1 : name.includes(low) ? 2 : 3
    }
    return hits.sort((a, b) => rank(a) - rank(b))
  }, [entries, typed, contains])
  const close = () => {
    setTyped('')
    props.onClose()
  }
  const closeOnEscape = (event: React.KeyboardEvent) => {
    if (event.key !== 'Escape') return
    event.stopPropagation()
    close()
  }
  return (
    <Dialog label={props.label} isOpen={props.isOpen} onClose={close} width={560} flush>
      {/* One Escape closes, also when something has been typed: the field alone would only be cleared. */}
      <div onKeyDownCapture={closeOnEscape}>
        <Autocomplete inputValue={typed} onInputChange={setTyped}>
          <Search aria-label={props.label} autoFocus>
            <Input placeholder={props.placeholder} />
          </Search>
          {props.onAll && typed.trim() && shown.length > 0 && (
            <All>
              <span>
                {shown.length} {shown.length === 1 ? 'match' : 'matches'}
                {shown.length > MOST ? `, the first ${MOST} listed` : ''}
              </span>
              <Button
                onPress={() => {
                  const ids = shown.map((e) => e.id)
                  close()
                  props.onAll?.(ids)
                }}
              >
                Mark all on the sheet
              </Button>
            </All>
          )}
          <Scroll tabIndex={0} role="group" aria-label="Matches">
            <Options
              aria-label={props.label}
              items={shown.slice(0, MOST)}
              renderEmptyState={() => <None>Nothing is called that.</None>}
              onAction={(key) => {
                close()
                props.onChoose(String(key))
              }}
            >
              {(e) => (
                <Option id={e.id} textValue={e.label}>
                  <span>{e.label}</span>
                  <span className="detail">{e.detail}</span>
                  {e.keys && <Kbd>{e.keys}</Kbd>}
                </Option>
              )}
            </Options>
          </Scroll>
        </Autocomplete>
      </div>
    </Dialog>
  )
}
