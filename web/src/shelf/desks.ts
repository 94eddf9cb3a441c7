/** Which desk and view the shelf shows, and how high; each desk remembers both. */
import { type DeskState, type Height, setPrefs, usePrefs } from '../model/prefs'
import { useBench } from '../session/store'
import { type DeskId, useViews, viewNamed, viewsOf } from './registry'

const LEVELS: readonly Height[] = ['third', 'half', 'all']
const USUAL: DeskState = { height: 'third' }

export const deskOf = (view: string): DeskId => viewNamed(view)?.desk ?? 'now'
const stateOf = (desk: DeskId): DeskState => usePrefs.getState().desks[desk] ?? USUAL
const remember = (desk: DeskId, change: Partial<DeskState>) =>
  setPrefs((p) => ({ desks: { ...p.desks, [desk]: { ...USUAL, ...p.desks[desk], ...change } } }))

/** What the desk in use shows. */
export function useDesk(): { readonly desk: DeskId } & DeskState {
  const desk = useBench((s) => deskOf(s.shelf))
  return { desk, ...usePrefs((p) => p.desks[desk] ?? USUAL) }
}

/** Show a view, on at least so much of the height. */
export function openView(id: string, atLeast?: Height) {
  const view = viewNamed(id)
  if (!view) return
  const { height, beside } = stateOf(view.desk)
  const raised = atLeast && LEVELS.indexOf(atLeast) > LEVELS.indexOf(height) ? atLeast : height
  remember(view.desk, { view: id, height: raised, beside: beside === id ? undefined : beside })
  useBench.setState({ shelf: id, shelfOpen: true })
}

/** Go to a desk, to the view it showed last; when it is open already, to its next view. */
export function openDesk(desk: DeskId) {
  const { shelf, shelfOpen } = useBench.getState()
  const views = viewsOf(desk)
  if (shelfOpen && deskOf(shelf) === desk) {
    const at = views.findIndex((v) => v.id === shelf)
    const next = views[(at + 1) % views.length]
    if (next) openView(next.id)
    return
  }
  const last = stateOf(desk).view
  const view = views.find((v) => v.id === last) ?? views[0]
  waiting?.()
  waiting = undefined
  if (view) return openView(view.id)
  // Its pages come when the service has listed them: it opens then, if nothing else was opened meanwhile.
  waiting = useViews.subscribe(() => {
    if (!viewsOf(desk).length) return
    waiting?.()
    if (useBench.getState().shelf === shelf) openDesk(desk)
  })
}

let waiting: (() => void) | undefined

export function setHeight(height: Height) {
  remember(deskOf(useBench.getState().shelf), { height })
  useBench.setState({ shelfOpen: true })
}

/** Higher, and from the top down to a third again. */
export function nextHeight() {
  const { shelf, shelfOpen } = useBench.getState()
  if (!shelfOpen) return useBench.setState({ shelfOpen: true })
  const { height } = stateOf(deskOf(shelf))
  setHeight(LEVELS[(LEVELS.indexOf(height) + 1) % LEVELS.length] ?? 'third')
}

/** Lay a view beside the one of this desk; none takes it away. */
export const layBeside = (id: string | undefined) =>
  remember(deskOf(useBench.getState().shelf), { beside: id })

/** Lay the next view of this desk beside the first, or take away what lies there. */
export function toggleBeside() {
  const { shelf } = useBench.getState()
  const desk = deskOf(shelf)
  layBeside(stateOf(desk).beside ? undefined : viewsOf(desk).find((v) => v.id !== shelf)?.id)
}
