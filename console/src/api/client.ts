// The HTTP API as the console calls it. Types come from the OpenAPI document.
import type { components } from './gen/schema'

/** The server that the page's path names, as "/at/NAME", or "": links can say whose things they are to. */
export const at = location.pathname.match(/^\/at\/[^/]+/)?.[0] ?? ''

/** How the paths of the API begin. */
export const api = '/api' + at

type Schemas = components['schemas']
export type Scope = Schemas['Scope']
export type Usage = Schemas['Usage']
export type Supernet = Schemas['Supernet']
export type Space = Schemas['Space']
export type Stretch = Schemas['Stretch']
export type Lease = Schemas['Lease']
export type LeaseEvent = Schemas['LeaseEvent']
export type Reservation = Schemas['Reservation']
export type Unserved = Schemas['Unserved']
export type Status = Schemas['Status']
export type Session = Schemas['Session']
export type Revision = Schemas['Revision']
export type Deed = Schemas['Deed']
export type Cell = Schemas['Cell']
export type Edit = Schemas['Edit']
export type Inside = Schemas['Inside']
export type Prepared = Schemas['Prepared']
export type PreparedEdit = Schemas['PreparedEdit']
export type RunDown = Schemas['RunDown']
export type UndoRule = Schemas['UndoRule']
export type ChangeRequest = Schemas['ChangeRequest']
export type ChangeResult = Schemas['ChangeResult']
export type Code = Schemas['Code']
export type Explanation = Schemas['Explanation']
export type Ended = Schemas['Ended']
export type Link = Schemas['Link']
export type Exchange = Schemas['Exchange']
export type Decoded = Schemas['Decoded']
export type Rule = Schemas['Rule']
export type RuleTried = Schemas['RuleTried']
export type RuleVariable = Schemas['RuleVariable']
export type List = Schemas['List']
export type Codebook = Schemas['Codebook']
export type OwnField = Schemas['OwnField']
export type Vendor = Schemas['Vendor']
export type Trial = Schemas['Trial']
export type TrialResult = Schemas['TrialResult']
export type Check = Schemas['Check']
export type Relay = Schemas['Relay']
export type Listening = Schemas['Listening']
export type Agreement = Schemas['Agreement']
export type StaleLease = Schemas['StaleLease']
export type StaleLeases = Schemas['StaleLeases']
export type Nudged = Schemas['Nudged']
export type UnmetOption = Schemas['UnmetOption']
export type GivenOptions = Schemas['GivenOptions']
export type Warning = Schemas['Warning']
export type Defaults = Schemas['Defaults']
export type Capacity = Schemas['Capacity']
export type CapacityDetail = Schemas['CapacityDetail']
export type CapacityGroup = Schemas['CapacityGroup']
export type CapacityUsers = Schemas['CapacityUsers']
export type Size = Schemas['Size']
export type SubnetInfo = Schemas['SubnetInfo']
export type Rehearsal = Schemas['Rehearsal']
export type Finding = Schemas['Finding']
export type AuditReport = Schemas['AuditReport']
export type FindingCode = Schemas['FindingCode']
export type Swept = Schemas['Swept']
export type ActedOn = Schemas['ActedOn']
export type ActedOne = Schemas['ActedOne']
export type Move = Schemas['Move']
export type LeasesBrought = Schemas['LeasesBrought']
export type AuditDifference = Schemas['AuditDifference']
export type Report = Schemas['Report']
export type ReportSchedule = Schemas['ReportSchedule']
export type Alert = Schemas['Alert']
export type Pair = Schemas['Pair']
export type PairServer = Schemas['PairServer']
export type PairScope = Schemas['PairScope']
export type PairDone = Schemas['PairDone']
export type PairInvitation = Schemas['PairInvitation']
export type PairComparison = Schemas['PairComparison']
export type PairEvent = Schemas['PairEvent']
export type PairLines = Schemas['PairLines']
export type PairStates = Schemas['PairStates']
export type PairRevision = Schemas['PairRevision']

/** One page of a list, which may be the whole. */
export type Page<T> = { items: T[]; total: number; next?: string; revision: number; missing?: string[] }

/** A refusal in the server's own words (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly faults: Fault[] = [],
  ) {
    super(detail)
  }
}

/** What is wrong with a file, and where: in words, such as "line 3, column 7". */
export type Fault = { message: string; location?: string }

export type Query = Record<string, string | number | boolean | string[] | undefined>

/** The plan's revision when something was read, so that a change can say what it was made against. */
const revisions = new WeakMap<object, number>()

function remember(value: unknown, revision: number) {
  if (typeof value !== 'object' || value === null) return
  revisions.set(value, revision)
  const list = Array.isArray(value) ? value : (value as Partial<Page<unknown>>).items
  if (Array.isArray(list)) {
    revisions.set(list, revision)
    for (const item of list) remember(item, revision)
  }
}

export const revisionOf = (value: object | undefined) => (value ? revisions.get(value) : undefined)

/** A body that is sent as it is. */
export type File = { text: string; type: 'application/yaml' | 'text/csv' }

const isFile = (body: unknown): body is File =>
  typeof body === 'object' && body !== null && 'type' in body && 'text' in body

export async function call<T>(method: string, path: string, query: Query = {}, body?: unknown): Promise<T> {
  const params = new URLSearchParams()
  for (const [key, value] of Object.entries(query)) {
    if (value === undefined || value === '' || value === false) continue
    params.set(key, Array.isArray(value) ? value.join(',') : String(value))
  }
  const text = params.toString()
  let response: Response
  try {
    response = await fetch(api + path + (text ? '?' + text : ''), {
      method,
      headers: body === undefined ? {} : { 'Content-Type': isFile(body) ? body.type : 'application/json' },
      body: body === undefined ? undefined : isFile(body) ? body.text : JSON.stringify(body),
    })
  } catch {
    throw new Problem(0, 'The server cannot be reached. Is yarnpostd running?')
  }
  if (response.status === 204) return undefined as T
  const answer = await response.json().catch(() => ({}))
  if (!response.ok) {
    const faults: Fault[] = answer.errors ?? []
    if (faults.some((f) => f.location?.startsWith('line ')))
      throw new Problem(response.status, answer.detail ?? response.statusText, faults)
    const more = faults.map((e) => e.message).join('; ')
    throw new Problem(response.status, [answer.detail ?? response.statusText, more].filter(Boolean).join(': '))
  }
  const revision = Number(response.headers.get('Yarnpost-Revision'))
  if (revision) remember(answer, revision)
  return answer as T
}

/** The text of a file that the server makes. */
export async function textOf(path: string): Promise<string> {
  const response = await fetch(api + path)
  if (!response.ok)
    throw new Problem(response.status, (await response.json().catch(() => ({}))).detail ?? response.statusText)
  return response.text()
}

export const get = <T>(path: string, query?: Query) => call<T>('GET', path, query)

/** The items of a list; a limit in the query bounds it. */
export const items = async <T>(path: string, query?: Query) => (await get<Page<T>>(path, query)).items

/**
 * What somebody wants to change: edits, a revision undone, the plan of one brought back, one that was
 * kept aside made again, or what a file says.
 */
export type Wish =
  | Edit[]
  | { undo: number }
  | { restore: number }
  | { again: string }
  | { prepared: string; rule?: UndoRule }
  | { file: File; path: string; overwrite?: boolean }

export const change = (wish: Wish, how: Omit<Partial<ChangeRequest>, 'edits'> = {}) => {
  const post = (path: string, more: object = {}) => call<ChangeResult>('POST', path, {}, { ...how, ...more })
  if (Array.isArray(wish)) return post('/plan/changes', { edits: wish })
  if ('undo' in wish) return post(`/plan/revisions/${wish.undo}/revert`)
  if ('restore' in wish) return post('/plan/restore', { revision: wish.restore })
  if ('prepared' in wish)
    return call<ChangeResult>(
      'POST',
      `/plan/prepared/${encodeURIComponent(wish.prepared)}/apply`,
      {},
      { dryRun: how.dryRun, confirm: how.confirm, undo: wish.rule },
    )
  if ('file' in wish) return call<ChangeResult>('POST', wish.path, { ...how, overwrite: wish.overwrite }, wish.file)
  return post(`/plan/aside/${encodeURIComponent(wish.again)}/apply`)
}
