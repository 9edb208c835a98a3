// Where things lie on a strip of time.
import type { ChangeMark, Opening } from '../../api/call'

export interface Shade {
  from: number // per cent of the strip
  width: number
  name: string
  freeze: boolean
}

const place = (t: number, from: number, to: number) => ((t - from) / (to - from)) * 100

/** Openings as shaded stretches; of those of one name that touch, one. */
export function shadesOf(openings: Opening[], from: number, to: number): Shade[] {
  const out: Shade[] = []
  for (const o of openings) {
    const a = Math.max(new Date(o.from).getTime(), from)
    const b = Math.min(new Date(o.to).getTime(), to)
    if (b > a)
      out.push({
        from: place(a, from, to),
        width: place(b, from, to) - place(a, from, to),
        name: o.name,
        freeze: o.freeze,
      })
  }
  return out
}

export interface Dot {
  at: number // per cent
  row: number // where several lie together: 0 is the lowest
  mark: ChangeMark
  more: number // that are not drawn, as too many lie together
}

/** Marks side by side and one above the other, so that none hides another; beyond
 * three in one place the topmost stands for the rest. */
export function dotsOf(marks: ChangeMark[], from: number, to: number, width: number): Dot[] {
  const size = 13 // pixels that a mark takes
  const columns = new Map<number, Dot[]>()
  const out: Dot[] = []
  for (const mark of marks) {
    const at = place(new Date(mark.at).getTime(), from, to)
    if (at < 0 || at > 100) continue
    const column = Math.round((at / 100) * (width / size))
    const there = columns.get(column) ?? []
    if (there.length === 3) {
      const top = there[2]!
      top.more++
      if (needsSomeone(mark) && !needsSomeone(top.mark)) top.mark = mark
      continue
    }
    const dot = { at: Math.min(99.5, (column * size * 100) / width), row: there.length, mark, more: 0 }
    there.push(dot)
    columns.set(column, there)
    out.push(dot)
  }
  return out
}

export const isOutside = (place: string) => place === 'outside' || place === 'freeze'
export const needsSomeone = (m: { place: string; verdict: string }) =>
  isOutside(m.place) && m.verdict !== 'authorised'

const hour = 3_600_000
const day = 24 * hour

/** Ticks of the axis, at whole hours or days by the clock. */
export function ticksOf(from: number, to: number): { at: number; text: string }[] {
  const steps = [hour, 3 * hour, 6 * hour, 12 * hour, day, 2 * day, 7 * day, 30 * day, 90 * day]
  const step = steps.find((s) => (to - from) / s <= 9) ?? 365 * day
  const out = []
  const first = new Date(from)
  first.setMinutes(0, 0, 0)
  if (step >= day) first.setHours(0)
  else first.setHours(Math.ceil(first.getHours() / (step / hour)) * (step / hour))
  for (let t = first.getTime(); t <= to; t += step) {
    if (t < from) continue
    const d = new Date(t)
    const text =
      step >= day || d.getHours() === 0
        ? d.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
        : d.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' })
    out.push({ at: place(t, from, to), text })
  }
  return out
}
