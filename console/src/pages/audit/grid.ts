// Scores by site and document as a grid: rows are sites, columns documents.
import type { Score } from '../../api/call'

export interface Cell {
  share: number
  held: number
  asked: number
}
export interface GridRow {
  site: string
  cells: (Cell | undefined)[]
  share: number
}
export interface Grid {
  columns: string[]
  rows: GridRow[]
  fine: string[] // sites where everything holds
}

export function gridOf(scores: Score[]): Grid {
  const columns = [...new Set(scores.map((s) => s.name))].sort()
  const sites = new Map<string, Map<string, Score>>()
  for (const s of scores) {
    const site = s.site ?? ''
    if (!sites.has(site)) sites.set(site, new Map())
    sites.get(site)!.set(s.name, s)
  }
  const rows: GridRow[] = []
  const fine: string[] = []
  for (const [site, by] of sites) {
    let held = 0
    let asked = 0
    const cells = columns.map((c) => {
      const s = by.get(c)
      if (!s) return undefined
      const all = s.passed + s.failed + s.undecidable
      held += s.passed
      asked += all
      return { share: s.share, held: s.passed, asked: all }
    })
    const share = asked ? held / asked : 1
    if (held === asked) fine.push(site)
    else rows.push({ site, cells, share })
  }
  rows.sort((a, b) => a.share - b.share || a.site.localeCompare(b.site))
  return { columns, rows, fine: fine.sort() }
}

/** A share in words; never 100 % of what is not all. */
export function percent(share: number): string {
  const p = Math.round(share * 100)
  return `${share < 1 && p === 100 ? 99 : p} %`
}

/** A document's name for people: "management-plane", "running baseline". */
export function called(document: string): string {
  const [kind, name] = document.split(':')
  return kind === 'baseline' ? `${name} baseline` : (name ?? document)
}
