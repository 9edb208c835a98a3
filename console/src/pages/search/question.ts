// A search in the address of its page, and what it means.
import type { LocationQuery } from 'vue-router'
import type { Found, Hit, Question, SavedSearch } from '../../api/call'

export interface Asked {
  text: string
  in: string
  have: string
  lack: string
  selector: string
  scope: 'now' | 'at' | 'history'
  at: string
  regexp: boolean
  anyCase: boolean
  without: boolean
}

const asText = (v: unknown) => (typeof v === 'string' ? v : '')

export function askedIn(q: LocationQuery): Asked {
  const scope = asText(q['scope'])
  return {
    text: asText(q['q']),
    in: asText(q['in']),
    have: asText(q['have']),
    lack: asText(q['lack']),
    selector: asText(q['selector']),
    scope: scope === 'at' || scope === 'history' ? scope : 'now',
    at: asText(q['at']),
    regexp: q['regexp'] === '1',
    anyCase: q['case'] !== 'exact',
    without: q['without'] === '1',
  }
}

export function toQuery(a: Asked): Record<string, string> {
  const q: Record<string, string> = {
    q: a.in ? '' : a.text,
    in: a.in,
    have: a.in ? a.have : '',
    lack: a.in ? a.lack : '',
    selector: a.selector,
    scope: a.scope === 'now' ? '' : a.scope,
    at: a.scope === 'at' ? a.at : '',
    regexp: a.regexp ? '1' : '',
    case: a.anyCase ? '' : 'exact',
    without: a.without ? '1' : '',
  }
  return Object.fromEntries(Object.entries(q).filter(([, v]) => v !== ''))
}

/** Patterns in a box are separated by commas. */
const list = (s: string) =>
  s
    .split(',')
    .map((x) => x.trim())
    .filter(Boolean)

/** What is asked of the service; undefined where nothing is asked yet. */
export function toQuestion(a: Asked): Question | undefined {
  if (!a.text && !a.in) return undefined
  if (a.scope === 'at' && !a.at) return undefined
  const q: Question = { selector: a.selector, scope: a.scope, without: a.without, limit: 200 }
  if (a.scope === 'at') q.at = a.at
  if (a.in) return { ...q, in: a.in, have: list(a.have), lack: list(a.lack) }
  return { ...q, text: a.text, regexp: a.regexp, anyCase: a.anyCase }
}

export function fromSaved(s: SavedSearch): Asked {
  const q = s.question
  return {
    text: q.text ?? '',
    in: q.in ?? '',
    have: (q.have ?? []).join(', '),
    lack: (q.lack ?? []).join(', '),
    selector: q.selector ?? '',
    scope: q.scope ?? 'now',
    at: q.at ?? '',
    regexp: q.regexp ?? false,
    anyCase: q.anyCase ?? false,
    without: q.without ?? false,
  }
}

const count = (n: number, noun: string) => `${n.toLocaleString()} ${noun}${n === 1 ? '' : 's'}`

/** The answer in words. */
export function answerOf(f: Found, a: Asked): string {
  const where = `${count(f.searched, 'configuration')} looked through.`
  if (a.without) {
    return f.without.length
      ? `${count(f.without.length, 'device')} ${f.without.length === 1 ? 'does' : 'do'} not have it; ${where}`
      : `Every device has it; ${where}`
  }
  if (!f.total) return `Nothing was found; ${where}`
  const more = f.total > f.hits.length ? ` The first ${f.hits.length.toLocaleString()} are shown.` : ''
  return `${count(f.total, a.in ? 'section' : 'line')} in ${count(f.devices.length, 'device')}; ${where}${more}`
}

export interface Shelf {
  ref: string // of the configuration, without a revision
  hits: Hit[]
}

/** Hits, configuration by configuration. */
export function shelves(hits: Hit[]): Shelf[] {
  const out: Shelf[] = []
  for (const h of hits) {
    const ref = h.ref.replace(/@[^@]*$/, '')
    const last = out.at(-1)
    if (last?.ref === ref) last.hits.push(h)
    else out.push({ ref, hits: [h] })
  }
  return out
}
