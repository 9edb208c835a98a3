// Words for times and counts, as people say them.
import type { Revision, Stats } from '../api/call'

export function plural(n: number, noun: string): string {
  return `${n.toLocaleString()} ${noun}${n === 1 ? '' : 's'}`
}

const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })
const year = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })

/** A moment: "today 02:14", "yesterday 21:40", "tomorrow 02:00", "14 Nov 21:40", "3 Mar 2025". */
export function when(iso: string | undefined, now = new Date()): string {
  if (!iso) return ''
  const t = new Date(iso)
  const midnight = new Date(now.getFullYear(), now.getMonth(), now.getDate())
  const next = new Date(now.getFullYear(), now.getMonth(), now.getDate() + 1)
  const after = new Date(now.getFullYear(), now.getMonth(), now.getDate() + 2)
  if (t >= next && t < after) return `tomorrow ${clock.format(t)}`
  if (t >= midnight && t < next) return `today ${clock.format(t)}`
  if (t < midnight && t.getTime() >= midnight.getTime() - 86_400_000) return `yesterday ${clock.format(t)}`
  if (t.getFullYear() === now.getFullYear()) return `${day.format(t)} ${clock.format(t)}`
  return year.format(t)
}

/** The exact time, for the title of a moment. */
export function exact(iso: string | undefined): string {
  return iso ? new Date(iso).toLocaleString('en-GB', { dateStyle: 'full', timeStyle: 'long' }) : ''
}

/** How many midnights from here lie between now and a moment to come. */
export function daysUntil(iso: string, now = new Date()): number {
  const t = new Date(iso)
  const days =
    Date.UTC(t.getFullYear(), t.getMonth(), t.getDate()) -
    Date.UTC(now.getFullYear(), now.getMonth(), now.getDate())
  return days / 86_400_000
}

export function since(iso: string, now = new Date()): string {
  const minutes = (now.getTime() - new Date(iso).getTime()) / 60_000
  if (minutes < 1) return 'a moment'
  if (minutes < 60) return plural(Math.floor(minutes), 'minute')
  if (minutes < 48 * 60) return plural(Math.floor(minutes / 60), 'hour')
  return plural(Math.floor(minutes / 1440), 'day')
}

/** Milliseconds as people say them: "8 ms", "1.7 s", "2 min 5 s". */
export function duration(ms: number): string {
  if (ms < 1000) return `${Math.round(ms)} ms`
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`
  return `${Math.floor(ms / 60_000)} min ${Math.round((ms % 60_000) / 1000)} s`
}

export function total(s: Stats): number {
  return s.added + s.removed + s.changed + s.moved
}

/** Counts with their marks: "1 ~  2 +". */
export function marks(s: Stats): string {
  const parts: string[] = []
  if (s.changed) parts.push(`${s.changed} ~`)
  if (s.removed) parts.push(`${s.removed} −`)
  if (s.added) parts.push(`${s.added} +`)
  if (s.moved) parts.push(`${s.moved} ↕`)
  return parts.join('  ')
}

/** A name as it stands in a selector or a ref: one with blanks is quoted. */
export function quoted(name: string): string {
  return name.includes(' ') ? `"${name}"` : name
}

/** A ref of a device. */
export function refOf(device: string, datastore = 'running', part = '', number = 0): string {
  let r = quoted(device)
  if (datastore !== 'running' || part) r += `:${datastore}`
  if (part) r += `/${part}`
  return number ? `${r}@${number}` : r
}

export function remark(r: Revision): string {
  const said: string[] = []
  if (r.sameAs) said.push(`same as @${r.sameAs}`)
  if (r.suspect) said.push(`suspect: ${r.suspect}`)
  return said.join('; ')
}
