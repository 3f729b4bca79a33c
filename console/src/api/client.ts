import createClient from 'openapi-fetch'
import type { components, paths } from './schema.gen'

type Schemas = components['schemas']
export type Device = Schemas['Device']
export type DevicePage = Schemas['DevicePage']
export type DeviceSummary = Schemas['DeviceSummary']
export type Answer = Schemas['Answer']
export type RecordedDecision = Schemas['RecordedDecision']
export type Evaluation = Schemas['Evaluation']
export type GateRuling = Schemas['GateRuling']
export type Leaf = Schemas['Leaf']
export type Outcome = Schemas['Outcome']
export type Person = Schemas['Person']
export type Problem = Schemas['Problem']
export type Reading = Schemas['Reading']
export type Remedies = Schemas['Remedies']
export type Ruling = Schemas['Ruling']
export type Session = Schemas['Session']
export type Vocabulary = Schemas['Vocabulary']
export type AccessShift = Schemas['AccessShift']
export type Coverage = Schemas['Coverage']
export type Reach = Schemas['Reach']
export type Certificate = Schemas['Certificate']
export type Invitation = Schemas['Invitation']
export type DeviceTags = Schemas['DeviceTags']
export type IssuedCertificate = Schemas['IssuedCertificate']
export type Changes = Schemas['Changes']
export type Check = Schemas['Check']
export type Difference = Schemas['Difference']
export type Entry = Schemas['Entry']
export type FileColumns = Schemas['FileColumns']
export type FileResult = Schemas['FileResult']
export type HistoryEvent = Schemas['HistoryEvent']
export type File = Schemas['File']
export type Exception = Schemas['Exception']
export type Ledger = Schemas['Ledger']
export type Overview = Schemas['Overview']
export type Reproduction = Schemas['Reproduction']
export type RulebookInfo = Schemas['RulebookInfo']
export type Search = Schemas['Search']
export type Rule = Schemas['Rule']
export type Token = Schemas['Token']
export type Shift = Schemas['Shift']
export type Alert = Schemas['Alert']
export type Mute = Schemas['Mute']
export type Notice = Schemas['Notice']
export type Feed = Schemas['Feed']
export type FeedPlace = Schemas['FeedPlace']
export type FeedRun = Schemas['FeedRun']
export type FeedSettings = Schemas['FeedSettings']
export type FeedTrial = Schemas['FeedTrial']
export type Source = Schemas['Source']
export type ControlReport = Schemas['ControlReport']
export type ControlTally = Schemas['ControlTally']
export type ControlTold = Schemas['ControlTold']
export type Granted = Schemas['Granted']
export type NetworkClient = Schemas['NetworkClient']
export type Stay = Schemas['Stay']
export type Stream = Schemas['Stream']
export type StreamTest = Schemas['StreamTest']
export type ListIntake = Schemas['ListIntake']
export type ReportResult = Schemas['ReportResult']
export type Unmatched = Schemas['Unmatched']

/** The API, called with the console's session cookie. */
export const api = createClient<paths>({ baseUrl: '/' })

/** An answer that tells what went wrong (RFC 9457). */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}

interface Reply<T> {
  data?: T
  error?: Problem
  response: Response
}

/** The data of a reply, or its problem as an error. */
export async function must<T>(call: Promise<Reply<T>>): Promise<T> {
  let reply: Reply<T>
  try {
    reply = await call
  } catch {
    throw new ProblemError({
      type: 'about:blank',
      title: 'No answer',
      status: 0,
      detail: 'The service does not answer. Check that it is running, then try again.',
    })
  }
  if (reply.error !== undefined || !reply.response.ok) {
    const p = reply.error
    throw new ProblemError(
      p?.detail
        ? p
        : {
            type: 'about:blank',
            title: 'Failed',
            status: reply.response.status,
            detail: `The service answered ${reply.response.status}.`,
          },
    )
  }
  return reply.data as T
}
