// Folding of sections: which lines are seen when some sections are closed.
import type { Configuration } from '../api/call'

type Section = Configuration['sections'][number]

/** The lines (from 1) that are seen. The heading of a closed section is. */
export function visibleLines(count: number, sections: Section[], closed: ReadonlySet<number>): number[] {
  const out: number[] = []
  const ends = new Map(sections.map((s) => [s.line, s.lastLine]))
  for (let line = 1; line <= count; line++) {
    out.push(line)
    const end = closed.has(line) ? ends.get(line) : undefined
    if (end && end > line) line = end
  }
  return out
}

/** All outermost sections, to close them at once. */
export function folded(sections: Section[]): Set<number> {
  const least = Math.min(...sections.map((s) => s.depth))
  const outer = sections.filter((s) => s.depth === least)
  // A single root (as XML has) would fold everything away.
  const depth = outer.length === 1 ? least + 1 : least
  return new Set(sections.filter((s) => s.depth === depth).map((s) => s.line))
}
