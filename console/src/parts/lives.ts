// Since when lines stand, as it is said beside them.
import type { LineHistory, Revision } from '../api/call'
import { exact, when } from './say'

export interface Beside {
  text: string // "" where it is as in the line above
  title: string
  edge: string // class of the coloured edge
}

const day = 86_400_000

/** What is said beside each line. */
export function besides(h: LineHistory | undefined, now = new Date()): Beside[] {
  if (!h) return []
  const by = new Map<number, Revision>(h.revisions.map((r) => [r.number, r]))
  let before = -1
  return h.lines.map((l) => {
    const r = by.get(l.since)
    const age = r ? now.getTime() - new Date(r.firstSeen).getTime() : Infinity
    const said = r
      ? [`${when(r.firstSeen, now).replace(/ \d\d:\d\d$/, '')}`, r.author].filter(Boolean).join(' · ')
      : ''
    const title = [
      r && `Since @${l.since}, ${exact(r.firstSeen)}${r.author ? `, by ${r.author}` : ''}`,
      l.was && `It was: ${l.was}`,
      ...(l.before ?? []).map((b) => {
        const from = by.get(b.from)
        const last = by.get(b.last)
        return `It stood before, from @${b.from} (${when(from?.firstSeen, now)}) to @${b.last} (${when(last?.lastSeen, now)})`
      }),
    ]
    const text = l.since === before ? '' : said
    before = l.since
    return {
      text,
      title: title.filter(Boolean).join('\n'),
      edge: age < 2 * day ? 'border-accent' : age < 30 * day && l.since > 1 ? 'border-second' : 'border-line',
    }
  })
}
