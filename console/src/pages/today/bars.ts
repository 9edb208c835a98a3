// The geometry of the freshness picture.
import type { FreshnessDay } from '../../api/call'

export interface Bar {
  at: string
  x: number
  width: number
  title: string
  parts: { kind: 'fresh' | 'late' | 'stale' | 'none'; y: number; height: number }[]
}

const width = 1000
const height = 92

/** One bar for each note, at most the newest 200; few that are not fresh are still seen. */
export function bars(history: FreshnessDay[]): Bar[] {
  const shown = history.slice(-200)
  const step = width / Math.max(shown.length, 1)
  return shown.map((h, i) => {
    const c = h.counts
    const total = Math.max(c.fresh + c.late + c.stale + c.none, 1)
    const parts: Bar['parts'] = []
    for (const kind of ['fresh', 'late', 'stale', 'none'] as const) {
      const least = kind === 'fresh' ? 0 : 3
      if (c[kind]) parts.push({ kind, y: 0, height: Math.max((height * c[kind]) / total, least) })
    }
    const title = `${c.fresh} fresh, ${c.late} late, ${c.stale} stale, ${c.none} without a capture`
    return { at: h.at, x: i * step, width: Math.max(step - 1, 0.5), title, parts: fit(parts) }
  })
}

// Where the least heights do not fit, what is fresh gives way.
function fit(parts: Bar['parts']): Bar['parts'] {
  const over = parts.reduce((sum, p) => sum + p.height, 0) - height
  if (over > 0 && parts[0]) parts[0].height -= over
  let y = height
  for (const p of parts) {
    y -= p.height
    p.y = y
  }
  return parts
}
