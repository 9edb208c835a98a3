// The one place that talks to the service. Types come from the contract.
import createClient from 'openapi-fetch'
import type { components, paths } from './contract.gen'

export type Device = components['schemas']['Device']
export type DeviceDetail = components['schemas']['DeviceDetail']
export type Revision = components['schemas']['Revision']
export type Configuration = components['schemas']['Configuration']
export type Comparison = components['schemas']['Comparison']
export type ComparisonQuery = Omit<paths['/comparison']['get']['parameters']['query'], 'zone'>
export type Question = components['schemas']['Question']
export type Found = components['schemas']['Found']
export type Hit = components['schemas']['Hit']
export type SavedSearch = components['schemas']['SavedSearch']
export type LineHistory = components['schemas']['LineHistory']
export type Row = components['schemas']['Row']
export type Span = components['schemas']['Span']
export type Stats = components['schemas']['Stats']
export type Round = components['schemas']['Round']
export type RoundDetail = components['schemas']['RoundDetail']
export type Visit = components['schemas']['Visit']
export type RoundVisit = components['schemas']['RoundVisit']
export type NewSchedule = components['schemas']['NewSchedule']
export type Schedule = components['schemas']['Schedule']
export type Session = components['schemas']['Session']
export type JournalEntry = components['schemas']['JournalEntry']
export type FreshnessReport = components['schemas']['FreshnessReport']
export type FreshnessDay = components['schemas']['FreshnessDay']
export type ImportReport = components['schemas']['ImportReport']
export type Enrolled = components['schemas']['Enrolled']
export type Change = components['schemas']['Change']
export type ChangeMark = components['schemas']['ChangeMark']
export type ChangeOverview = components['schemas']['ChangeOverview']
export type ChangeEvent = components['schemas']['ChangeEvent']
export type ChangeQuery = Omit<NonNullable<paths['/changes/overview']['get']['parameters']['query']>, 'zone'>
export type Opening = components['schemas']['Opening']
export type AgreedWindow = components['schemas']['Window']
export type Signal = components['schemas']['Signal']
export type Understood = components['schemas']['Understood']
export type Subscription = components['schemas']['Subscription']
export type SubscriptionEdit = components['schemas']['SubscriptionEdit']
export type Letter = components['schemas']['Letter']
export type Finding = components['schemas']['Finding']
export type Score = components['schemas']['Score']
export type Drift = components['schemas']['Drift']
export type Waiver = components['schemas']['Waiver']
export type Document = components['schemas']['Document']
export type DocumentTrial = components['schemas']['DocumentTrial']
export type DocumentKind = components['schemas']['DocumentKind']
export type FindingQuery = NonNullable<paths['/findings']['get']['parameters']['query']>
export type RoundEvent = components['schemas']['RoundEvent']

export const api = createClient<paths>({ baseUrl: '/api/v1' })

/** A problem that the service answered with (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail?: string,
  ) {
    super(detail || title)
  }
}

interface Answer<T> {
  data?: T
  error?: { title?: string; detail?: string }
  response: Response
}

/** The data of an answer, or its problem thrown. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new Problem(0, 'The service does not answer. Is it running?')
  }
  if (!answer.response.ok) {
    throw new Problem(
      answer.response.status,
      answer.error?.title ?? 'The service could not do this.',
      answer.error?.detail,
    )
  }
  return answer.data as T
}

export const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
