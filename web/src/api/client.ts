import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

type Schemas = components['schemas']
export type Live = Schemas['LiveOut']
export type Finding = Schemas['FindingOut']
export type Account = Schemas['AccountOut']
export type Column = Schemas['ColumnOut']
export type Project = Schemas['ProjectOut']
export type FieldSpec = Schemas['FieldSpec']
export type Kind = Schemas['KindOut']
export type Vocabulary = Schemas['Vocabulary']
export type Problem = Schemas['Problem']
export type Changed = Schemas['ChangedOut']
export type Opened = Schemas['OpenedOut']
export type Imported = Schemas['ImportedOut']
export type JournalLine = Schemas['JournalLine']
export type Profile = Schemas['ProfileOut']
export type Check = Schemas['CheckOut']
export type Working = Schemas['WorkingOut']
export type Step = Schemas['StepOut']
export type About = Schemas['AboutOut']
export type Supply = Schemas['SupplyOut']
export type Shoot = Schemas['ShootOut']
export type EquipmentType = Schemas['TypeOut']
export type Change = Schemas['ChangeIn']['changes'][number]

/** Names this tab to the service: what its sliders try and its studies are nobody else's. It stays when the page is loaded again. */
export const TAB = tabName()

function tabName(): string {
  if (typeof sessionStorage === 'undefined') return crypto.randomUUID() // outside a browser, in tests
  const [how] = performance.getEntriesByType('navigation') as PerformanceNavigationTiming[]
  const known = how?.type === 'reload' ? sessionStorage.getItem('tab') : null
  const name = known ?? crypto.randomUUID()
  sessionStorage.setItem('tab', name)
  return name
}

/** Outside a browser, in tests, there is no page that addresses could be relative to. */
export const client = createClient<paths>({
  baseUrl: typeof location === 'undefined' ? 'http://localhost/' : '/',
  headers: { 'x-tab': TAB },
})

/** A refusal by the service, in its own words. */
export class ServiceError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}

/** The body of an answer; a problem, or no answer at all, becomes a ServiceError. */
export async function answer<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let result: { data?: T; error?: unknown; response: Response }
  try {
    result = await call
  } catch {
    throw new ServiceError({
      type: '/problems/offline',
      title: 'No connection',
      status: 0,
      code: 'offline',
      errors: [],
      detail: 'The service does not answer. Is it still running? Nothing was changed.',
    })
  }
  if (result.error !== undefined || !result.response.ok)
    throw new ServiceError(asProblem(result.error, result.response))
  return result.data as T
}

function asProblem(error: unknown, response: Response): Problem {
  if (typeof error === 'object' && error && 'detail' in error && 'code' in error) return error as Problem
  return {
    type: '/problems/unknown',
    title: 'Unexpected answer',
    status: response.status,
    code: 'unknown',
    errors: [],
    detail: `The service answered ${response.status} ${response.statusText}.`,
  }
}

export const messageOf = (error: unknown) => (error instanceof Error ? error.message : String(error))
