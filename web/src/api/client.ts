import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

type Schemas = components['schemas']
export type Account = Schemas['Account']
export type Act = Schemas['Act']
export type Board = Schemas['Board']
export type ServiceAilment = Schemas['ServiceAilment']
export type DeviceSummary = Schemas['DeviceSummary']
export type ControllerChange = Schemas['ControllerChange']
export type ControllerSettings = Schemas['ControllerSettings']
export type Device = Schemas['Device']
export type LineScreen = Schemas['LineScreen']
export type EstateEvent = Schemas['EstateEvent']
export type Draw = Schemas['Draw']
export type GearEvent = Schemas['GearEvent']
export type Hop = Schemas['Hop']
export type HopState = Schemas['HopState']
export type MiniLines = Schemas['MiniLines']
export type Incident = Schemas['Incident']
export type IncidentSaying = Schemas['IncidentSaying']
export type Intent = Schemas['Intent']
export type Interlock = Schemas['Interlock']
export type JournalEntry = Schemas['JournalEntry']
export type Means = Schemas['Means']
export type Operation = Schemas['Operation']
export type OperationKind = Schemas['OperationKind']
export type OperationRequest = Schemas['OperationRequest']
export type Preview = Schemas['Preview']
export type Problem = Schemas['Problem']
export type NewPassword = Schemas['NewPassword']
export type Remark = Schemas['Remark']
export type Reason = Schemas['Reason']
export type Role = Schemas['Role']
export type Sensor = Schemas['Sensor']
export type Session = Schemas['Session']
export type Sheet = Schemas['Sheet']
export type Site = Schemas['Site']
export type Step = Schemas['Step']
export type StreamEvent = Schemas['StreamEvent']
export type Trouble = Schemas['Trouble']
export type Verdict = Schemas['Verdict']
export type VerdictState = Schemas['VerdictState']
export type Failover = Schemas['Failover']
export type Group = Schemas['Group']
export type GroupIntent = Schemas['GroupIntent']
export type GroupMember = Schemas['GroupMember']
export type GroupPreview = Schemas['GroupPreview']
export type GroupRequest = Schemas['GroupRequest']
export type Hanger = Schemas['Hanger']
export type HistoryMark = Schemas['HistoryMark']
export type HistorySeries = Schemas['HistorySeries']
export type NamedText = Schemas['NamedText']
export type PhaseReading = Schemas['PhaseReading']
export type PowerElement = Schemas['PowerElement']
export type SitePower = Schemas['SitePower']
export type Supply = Schemas['Supply']
export type SupplyBrief = Schemas['SupplyBrief']
export type SupplyCommand = Schemas['SupplyCommand']
export type Wiring = Schemas['Wiring']
export type WiringCheck = Schemas['WiringCheck']
export type WiringFinding = Schemas['WiringFinding']
export type Weakness = Schemas['Weakness']
export type Way = Schemas['Way']

export const api = createClient<paths>({ baseUrl: '/api/v1' })

/** What the service said was wrong; message says what, where and what to do. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title)
  }
  get kind() {
    return this.problem.kind
  }
}

const away: Problem = {
  type: 'about:blank',
  title: 'The service does not answer',
  detail: 'The service does not answer. Is it running, and are you still connected?',
  status: 0,
  kind: 'internal',
}

/** The value of an answer; a problem, or no answer at all, is thrown. */
export async function unwrap<T>(
  answer: Promise<{ data?: T; error?: Problem | undefined; response: Response }>,
): Promise<T> {
  let a: Awaited<typeof answer>
  try {
    a = await answer
  } catch (e) {
    if (e instanceof DOMException && e.name === 'AbortError') throw e
    throw new ProblemError(away)
  }
  if (a.error) throw new ProblemError(a.error.kind ? a.error : { ...away, title: `HTTP ${a.response.status}` })
  return a.data as T
}
