/** The board, whose cases can be shown on the sheet, and the best plan, which can be kept as one. */
import { useQuery } from '@tanstack/react-query'
import { messageOf } from '../../api/client'
import { studiesQuery } from '../../api/queries'
import { Pick, Plain } from '../../design/controls'
import { tryYear } from '../../session/live'
import { change } from '../../session/queue'
import { notify, useBench } from '../../session/store'
import { CellTaken, type TakeCell } from '../../shelf/cells'
import { StudyPage } from '../StudyPage'
import { type StudyResult, useStudy } from '../useStudy'

const useNamed = (name: string) => useQuery(studiesQuery).data?.find((s) => s.name === name)

export function Board() {
  const study = useNamed('board')
  const { result } = useStudy('board')
  const open: TakeCell = (figure, year, way) => {
    if (!result || (figure !== 'breaches' && figure !== 'loading')) return false
    void showCase(result, way, Number(year))
    return true
  }
  return study ? (
    <CellTaken value={open}>
      <StudyPage study={study} Beside={CasePick} />
    </CellTaken>
  ) : null
}

export function BestPlan() {
  const study = useNamed('best_plan')
  return study ? <StudyPage study={study} Beside={KeepPlan} noScheme /> : null
}

function column<T>(result: StudyResult, table: string, name: string): readonly T[] {
  return (result.tables[table]?.columns.find((c) => c.name === name)?.values ?? []) as readonly T[]
}

const tell = (error: unknown) => notify('problem', messageOf(error))

/** Show a way in a year: its schemes are turned on, which one undo takes back, and the sheet has the demand of that year. */
async function showCase(result: StudyResult, way: string, year: number) {
  const of = column<string>(result, 'steps', 'name')
  const since = column<number>(result, 'steps', 'year')
  const on = new Set(
    column<string>(result, 'steps', 'id').filter((_, n) => of[n] === way && (since[n] ?? year) <= year),
  )
  const changes = [...useBench.getState().items.values()]
    .filter((i) => i.kind === 'scheme' && (i.active === true) !== on.has(i.id))
    .map((i) => ({ op: 'update' as const, id: i.id, values: { active: on.has(i.id) }, origins: {} }))
  try {
    if (changes.length) await change(`Show ${way}, ${year}`, changes)
    tryYear(year)
  } catch (error) {
    tell(error)
  }
}

function CasePick({ result }: { result: StudyResult }) {
  const ways = [...new Set(column<string>(result, 'board', 'name'))]
  const years = [...new Set(column<string>(result, 'board', 'year'))]
  const choices = ways.flatMap((w) => years.map((y) => ({ id: JSON.stringify([w, y]), label: `${w}, ${y}` })))
  if (!choices.length) return null
  return (
    <Pick
      label="Show on the sheet"
      hideLabel
      placeholder="show a case"
      value={null}
      choices={choices}
      onChange={(id) => {
        const [way, year] = JSON.parse(String(id)) as [string, string]
        void showCase(result, way, Number(year))
      }}
    />
  )
}

/** What was found becomes a plan of the model. */
function KeepPlan({ result }: { result: StudyResult }) {
  const items = useBench((s) => s.items)
  const schemes = column<string>(result, 'plan', 'id')
  const years = column<number>(result, 'plan', 'year')
  if (!schemes.length) return null
  const keep = async () => {
    let n = 1
    const name = () => (n === 1 ? 'Best plan' : `Best plan ${n}`)
    while (items.has(name())) n += 1
    const names = column<string>(result, 'plan', 'name')
    const costs = column<number>(result, 'plan', 'cost_k')
    // Proposals among them become schemes first.
    const made = new Map<string, string>()
    const further = schemes.flatMap((scheme, k) => {
      const changes = (result.scheme ?? []).filter((e) => e.group === names[k])
      if (items.has(scheme) || !changes.length) return []
      let id = names[k] ?? scheme
      while (items.has(id)) id += ' 2'
      made.set(scheme, id)
      return [{ op: 'add' as const, item: { kind: 'scheme', id, name: id, cost_k: costs[k], changes } }]
    })
    const steps = schemes.map((scheme, k) => ({ scheme: made.get(scheme) ?? scheme, year: years[k] ?? 0 }))
    try {
      const plan = { op: 'add' as const, item: { kind: 'plan', id: name(), name: name(), steps } }
      await change(`Make ${name()}`, [...further, plan])
      notify('news', `${name()} stands on the board and among the plans of the model.`)
    } catch (error) {
      tell(error)
    }
  }
  return <Plain onPress={() => void keep()}>Make it a plan</Plain>
}
