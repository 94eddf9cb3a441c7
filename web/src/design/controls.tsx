/** The few controls the interface is made of, on React Aria, dressed from the tokens. */
import { type ReactNode, useMemo, useState } from 'react'
import {
  Button as AriaButton,
  Dialog as AriaDialog,
  Menu as AriaMenu,
  MenuItem as AriaMenuItem,
  Popover as AriaPopover,
  Select as AriaSelect,
  Slider as AriaSlider,
  Tab as AriaTab,
  TabList as AriaTabList,
  Tooltip as AriaTooltip,
  Autocomplete,
  type ButtonProps,
  Input,
  Label,
  ListBox,
  ListBoxItem,
  Modal,
  ModalOverlay,
  SearchField,
  SelectValue,
  SliderThumb,
  SliderTrack,
  TooltipTrigger,
} from 'react-aria-components'
import styled from 'styled-components'
import { Icon, type IconName } from './Icon'
import { font } from './tokens'

export const Button = styled(AriaButton)`
  display: inline-flex; align-items: center; gap: 6px; height: 28px; padding: 0 10px; border-radius: 5px;
  border: 1px solid ${(p) => p.theme.rule}; background: ${(p) => p.theme.panel}; color: ${(p) => p.theme.ink};
  cursor: default; white-space: nowrap;
  &[data-hovered] { border-color: ${(p) => p.theme.quiet}; }
  &[data-pressed] { background: ${(p) => p.theme.accentWash}; }
  &[data-disabled] { color: ${(p) => p.theme.dead}; }
`

export const Primary = styled(Button)`
  background: ${(p) => p.theme.accent}; border-color: ${(p) => p.theme.accent}; color: ${(p) => p.theme.onAccent};
  &[data-pressed] { background: ${(p) => p.theme.accent}; opacity: 0.85; }
`

export const Plain = styled(Button)`
  border-color: transparent; background: transparent;
  &[data-hovered] { border-color: transparent; background: ${(p) => p.theme.accentWash}; }
  &[data-pressed] { background: ${(p) => p.theme.accentWash}; }
`

const Square = styled(Plain)`width: 28px; padding: 0; justify-content: center;`
const Tip = styled(AriaTooltip)`
  background: ${(p) => p.theme.ink}; color: ${(p) => p.theme.panel}; padding: 4px 8px; border-radius: 4px;
  font-size: 12px; max-width: 280px;
`

/** A button with a sign instead of words; the words stand in its tooltip. */
export function IconButton({
  icon,
  label,
  keys,
  ...props
}: { icon: IconName; label: string; keys?: string } & ButtonProps) {
  return (
    <TooltipTrigger delay={500}>
      <Square aria-label={label} {...props}>
        <Icon name={icon} />
      </Square>
      <Tip offset={4}>
        {label}
        {keys ? ` (${keys})` : ''}
      </Tip>
    </TooltipTrigger>
  )
}

export const Popover = styled(AriaPopover)`
  background: ${(p) => p.theme.panel}; border: 1px solid ${(p) => p.theme.rule}; border-radius: 7px; outline: none;
  box-shadow: 0 6px 24px rgb(0 0 0 / 0.16); overflow: auto; color: ${(p) => p.theme.ink};
`

export const Menu = styled(AriaMenu)`padding: 4px; outline: none; min-width: 180px;` as typeof AriaMenu

export const MenuItem = styled(AriaMenuItem)`
  display: flex; justify-content: space-between; gap: 20px; padding: 5px 10px; border-radius: 4px; cursor: default; outline: none;
  &[data-focused] { background: ${(p) => p.theme.accentWash}; }
  &[data-disabled] { color: ${(p) => p.theme.dead}; }
  kbd { font: 400 11px ${font.mono}; color: ${(p) => p.theme.quiet}; }
`

export const Kbd = styled.kbd`
  font: 400 11px ${font.mono}; color: ${(p) => p.theme.quiet}; border: 1px solid ${(p) => p.theme.rule};
  border-radius: 3px; padding: 0 5px;
`

const Option = styled(ListBoxItem)`
  padding: 5px 10px; border-radius: 4px; cursor: default; outline: none;
  &[data-focused] { background: ${(p) => p.theme.accentWash}; }
  &[data-selected] { font-weight: 500; }
`
const Options = styled(
  ListBox,
)`padding: 4px; outline: none; max-height: 320px; overflow: auto;` as typeof ListBox
const Search = styled(SearchField)`padding: 6px 6px 2px; min-width: 220px;`
const More = styled.p`margin: 0; padding: 4px 12px 0; font-size: 12px; color: ${(p) => p.theme.quiet};`
const SelectButton = styled(AriaButton)`
  display: inline-flex; align-items: center; gap: 4px; border: none; background: transparent; padding: 3px 4px; border-radius: 4px;
  font-weight: 500; cursor: default; max-width: 100%; text-align: left;
  &[data-hovered] { background: ${(p) => p.theme.accentWash}; }
  svg { flex: none; color: ${(p) => p.theme.quiet}; }
`

export interface Choice {
  readonly id: string
  readonly label: string
}

/** From so many choices on, a list is searched and not scrolled, and made only while it is open. */
const LONG = 40
const MOST_SHOWN = 60

/** One of several words, in line with the text around it; of many with a search. */
export function Pick(props: {
  label: string
  hideLabel?: boolean
  value: string | null
  choices: readonly Choice[]
  onChange: (id: string) => void
  isDisabled?: boolean
  placeholder?: string
}) {
  const long = props.choices.length > LONG
  const [open, setOpen] = useState(false)
  const [words, setWords] = useState('')
  const own = useMemo(() => props.choices.filter((c) => c.id === props.value), [props.choices, props.value])
  const fitting = useMemo(
    () => (long && open ? matching(props.choices, words) : []),
    [long, open, words, props.choices],
  )
  const shown = fitting.slice(0, MOST_SHOWN)
  // The chosen one is always among the options: the button reads its label from there.
  // A list without options can't be opened: of a long one of which none is chosen the first stands there until it is.
  const first = own.length ? own : props.choices.slice(0, 1)
  const options = !long ? props.choices : open ? [...own.filter((c) => !shown.includes(c)), ...shown] : first
  const list = <Options items={options}>{(c) => <Option id={c.id}>{c.label}</Option>}</Options>
  return (
    <AriaSelect
      aria-label={props.hideLabel ? props.label : undefined}
      selectedKey={props.value}
      onSelectionChange={(key) => key !== null && props.onChange(String(key))}
      onOpenChange={(now) => {
        setOpen(now)
        setWords('')
      }}
      isDisabled={props.isDisabled}
      placeholder={props.placeholder ?? 'none'}
    >
      {!props.hideLabel && <Label>{props.label}</Label>}
      <SelectButton>
        <SelectValue />
        <Icon name="down" size={12} />
      </SelectButton>
      <Popover>
        {long ? (
          <Autocomplete inputValue={words} onInputChange={setWords}>
            <Search aria-label={`Find ${props.label.toLowerCase()}`} autoFocus>
              <TextInput as={Input} placeholder="Part of a name" />
            </Search>
            {fitting.length > MOST_SHOWN && (
              <More>{fitting.length - MOST_SHOWN} more: type part of the name</More>
            )}
            {list}
          </Autocomplete>
        ) : (
          list
        )}
      </Popover>
    </AriaSelect>
  )
}

/** Choices with all words in their label, those that begin with the first of them before. */
export function matching(choices: readonly Choice[], words: string): readonly Choice[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean)
  if (!wanted.length) return choices
  const found = choices.filter((c) => {
    const label = c.label.toLowerCase()
    return wanted.every((w) => label.includes(w))
  })
  const first = wanted[0]!
  const begins = (c: Choice) => (c.label.toLowerCase().startsWith(first) ? 0 : 1)
  return found.sort((a, b) => begins(a) - begins(b))
}

export const TabList = styled(AriaTabList)`display: flex; gap: 18px;` as typeof AriaTabList
export const Tab = styled(AriaTab)`
  padding: 5px 0; border-bottom: 2px solid transparent; color: ${(p) => p.theme.quiet}; cursor: default; outline-offset: 2px;
  &[data-selected] { color: ${(p) => p.theme.ink}; font-weight: 500; border-color: ${(p) => p.theme.accent}; }
  &[data-hovered] { color: ${(p) => p.theme.ink}; }
`

const SliderBox = styled(AriaSlider)`
  display: flex; align-items: center; gap: 8px;
  label { color: ${(p) => p.theme.quiet}; }
`
const Track = styled(SliderTrack)`
  position: relative; width: 92px; height: 20px; @media (max-width: 1180px) { width: 58px; }
  &::before { content: ''; position: absolute; left: 0; right: 0; top: 9px; height: 2px; background: ${(p) => p.theme.rule}; }
`
const Fill = styled.div`position: absolute; top: 9px; left: 0; height: 2px; background: ${(p) => p.theme.accent};`
const Tick = styled.div`position: absolute; top: 6px; width: 1px; height: 8px; background: ${(p) => p.theme.quiet};`
const Thumb = styled(SliderThumb)`
  top: 10px; width: 15px; height: 15px; border-radius: 50%; background: ${(p) => p.theme.accent};
  &[data-focus-visible] { outline: 2px solid ${(p) => p.theme.accent}; outline-offset: 2px; }
`

/** A factor in per cent: dragged or stepped by arrow keys; `onTry` while it moves, `onKeep` when it rests. */
export function Factor(props: {
  label: string
  value: number
  max: number
  onTry: (value: number) => void
  onKeep: (value: number) => void
  children: ReactNode
}) {
  return (
    <SliderBox
      value={props.value}
      minValue={0}
      maxValue={props.max}
      step={1}
      onChange={(v) => props.onTry(Number(v))}
      onChangeEnd={(v) => props.onKeep(Number(v))}
    >
      <Label>{props.label}</Label>
      <Track>
        {({ state }) => (
          <>
            <Fill style={{ width: `${state.getThumbPercent(0) * 100}%` }} />
            <Tick style={{ left: `${(100 / props.max) * 100}%` }} />
            <Thumb />
          </>
        )}
      </Track>
      {props.children}
    </SliderBox>
  )
}

const Overlay = styled(ModalOverlay)`
  position: fixed; inset: 0; background: rgb(10 14 18 / 0.32); display: flex; align-items: flex-start; justify-content: center;
  padding-top: 12vh; z-index: 50;
`
const Sheet = styled(Modal)`
  background: ${(p) => p.theme.panel}; color: ${(p) => p.theme.ink}; border-radius: 9px; border: 1px solid ${(p) => p.theme.rule};
  box-shadow: 0 12px 48px rgb(0 0 0 / 0.25); max-height: 76vh; overflow: auto; outline: none;
`
const DialogBody = styled(
  AriaDialog,
)`outline: none; padding: 16px 18px; h2 { font-size: 15px; font-weight: 600; margin-bottom: 10px; }`

export function Dialog(props: {
  label: string
  isOpen: boolean
  onClose: () => void
  width?: number
  flush?: boolean
  children: ReactNode
}) {
  return (
    <Overlay isOpen={props.isOpen} onOpenChange={(open) => !open && props.onClose()} isDismissable>
      <Sheet style={{ width: props.width ?? 460 }}>
        <DialogBody aria-label={props.label} style={props.flush ? { padding: 0 } : undefined}>
          {props.children}
        </DialogBody>
      </Sheet>
    </Overlay>
  )
}

export const Figures = styled.span`font-family: ${font.mono}; font-size: 12px;`
export const Quiet = styled.span`color: ${(p) => p.theme.quiet};`
export const TextInput = styled.input`
  height: 30px; border: 1px solid ${(p) => p.theme.rule}; border-radius: 5px; background: ${(p) => p.theme.paper}; padding: 0 9px; width: 100%;
`
