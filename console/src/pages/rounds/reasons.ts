// What did not go well in a round, by its reason, the largest group first.
import type { Visit } from '../../api/call'

export interface Reason {
  code: string
  advice: string
  failed: boolean
  visits: Visit[]
  where: string // "all at Northgate", where that says more than the list
}

export function reasonsOf(visits: Visit[]): Reason[] {
  const groups = new Map<string, Reason>()
  for (const v of visits) {
    if (!v.reason) continue
    const g = groups.get(v.reason)
    if (g) g.visits.push(v)
    else
      groups.set(v.reason, {
        code: v.reason,
        advice: v.advice ?? '',
        failed: v.outcome === 'failed',
        visits: [v],
        where: '',
      })
  }
  for (const g of groups.values()) {
    const sites = new Set(g.visits.map((v) => v.site))
    if (g.visits.length > 1 && sites.size === 1 && g.visits[0]!.site) g.where = `all at ${g.visits[0]!.site}`
  }
  return [...groups.values()].sort(
    (a, b) =>
      Number(b.failed) - Number(a.failed) ||
      b.visits.length - a.visits.length ||
      a.code.localeCompare(b.code),
  )
}
