// The columns of the fleet, and how devices are ordered and grouped by them.
import type { Device } from '../../api/call'
import { plural, since } from '../../parts/say'

export type Field = 'name' | 'site' | 'role' | 'platform' | 'freshness' | 'change' | 'wrong'

export const columns: { field: Field; title: string; width: string; groups: boolean }[] = [
  { field: 'name', title: 'Name', width: '128px', groups: false },
  { field: 'site', title: 'Site', width: '118px', groups: true },
  { field: 'role', title: 'Role', width: '98px', groups: true },
  { field: 'platform', title: 'Platform', width: '70px', groups: true },
  { field: 'freshness', title: 'Freshness', width: '98px', groups: true },
  { field: 'change', title: 'Last change', width: '112px', groups: false },
  { field: 'wrong', title: 'What is wrong', width: 'minmax(0, 1fr)', groups: true },
]

const freshnessOrder = ['no capture yet', 'stale', 'late', 'fresh']

/** What stands in the last column. */
export function wrong(d: Device): string {
  if (d.state === 'paused') return 'paused'
  if (d.problem) return `${d.problem.what} For ${since(d.problem.since)}.`
  if (d.suspect) return `Suspect: ${d.suspect}`
  return d.unsaved && d.unsavedSince
    ? `${plural(d.unsaved, 'line')} not saved for ${since(d.unsavedSince)}`
    : ''
}

function key(d: Device, field: Field): string {
  switch (field) {
    case 'change':
      return d.lastChange ?? ''
    case 'freshness':
      return String(freshnessOrder.indexOf(d.freshness))
    case 'wrong': {
      // Worst first: stale before late, the longest trouble before a fresh one.
      const rank = freshnessOrder.indexOf(d.freshness)
      if (d.problem) return `0${rank}${d.problem.since}`
      if (d.suspect) return '1'
      return d.unsavedSince ? `2${d.unsavedSince}` : `3${rank}`
    }
    default:
      return d[field].toLowerCase()
  }
}

const names = new Intl.Collator('en', { numeric: true })

/** Devices ordered by "field" or "-field", then by name. */
export function ordered(devices: Device[], sort: string): Device[] {
  const down = sort.startsWith('-')
  const field = (down ? sort.slice(1) : sort) as Field
  if (!columns.some((c) => c.field === field)) return devices
  const keyed = devices.map((d) => ({ d, k: field === 'name' ? '' : key(d, field) }))
  const sign = (down ? -1 : 1) * (field === 'change' ? -1 : 1) // newest first
  keyed.sort((a, b) => {
    const by = a.k < b.k ? -1 : a.k > b.k ? 1 : 0
    if (by) return by * sign
    return names.compare(a.d.name, b.d.name) * (field === 'name' && down ? -1 : 1)
  })
  return keyed.map((x) => x.d)
}

export type Line = { device: Device } | { heading: string; count: number; wrong: number }

/** The lines of the table: devices, with a heading above each group. */
export function lines(devices: Device[], group: Field | '', sort: string): Line[] {
  const list = ordered(devices, sort)
  if (!group) return list.map((device) => ({ device }))
  const groups = new Map<string, Device[]>()
  for (const d of list) {
    const name =
      group === 'wrong'
        ? (d.problem?.reason ?? (d.unsaved ? 'not saved' : 'nothing wrong'))
        : String(d[group as 'site']) || 'none'
    const members = groups.get(name)
    if (members) members.push(d)
    else groups.set(name, [d])
  }
  const out: Line[] = []
  for (const heading of [...groups.keys()].sort(names.compare)) {
    const members = groups.get(heading) ?? []
    out.push({ heading, count: members.length, wrong: members.filter((d) => d.problem).length })
    for (const device of members) out.push({ device })
  }
  return out
}
