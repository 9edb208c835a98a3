import { expect, test } from 'vitest'
import type { ChangeMark } from '../../api/call'
import { dotsOf, shadesOf, ticksOf } from './strip'

const mark = (id: number, at: string, place: ChangeMark['place'] = 'inside'): ChangeMark => ({
  id,
  at,
  place,
  device: 'np-acc-2',
  verdict: 'open',
  severity: 'low',
})
const from = new Date('2026-11-20T00:00:00Z').getTime()
const to = new Date('2026-11-21T00:00:00Z').getTime()

test('marks that lie together stand one above the other', () => {
  const dots = dotsOf(
    [1, 2, 3, 4, 5].map((i) => mark(i, '2026-11-20T12:00:00Z', i === 5 ? 'outside' : 'inside')),
    from,
    to,
    1000,
  )
  expect(dots.map((d) => d.row)).toEqual([0, 1, 2])
  expect(dots[2]!.more).toBe(2)
  // What needs somebody is what is seen.
  expect(dots[2]!.mark.id).toBe(5)
})

test('what lies outside the strip is not drawn', () => {
  expect(dotsOf([mark(1, '2026-11-19T12:00:00Z'), mark(2, '2026-11-22T12:00:00Z')], from, to, 1000)).toEqual(
    [],
  )
})

test('windows are cut at the ends of the strip', () => {
  const opening = { name: 'night', freeze: false, from: '2026-11-19T22:00:00Z', to: '2026-11-20T06:00:00Z' }
  expect(shadesOf([opening], from, to)).toEqual([{ from: 0, width: 25, name: 'night', freeze: false }])
  expect(shadesOf([{ ...opening, to: '2026-11-19T23:00:00Z' }], from, to)).toEqual([])
})

test('there are a few ticks, whatever the span', () => {
  for (const hours of [1, 5, 24, 100, 700, 9000]) {
    const ticks = ticksOf(from, from + hours * 3_600_000)
    expect(ticks.length).toBeLessThanOrEqual(10)
    expect(ticks.every((t) => t.at >= 0 && t.at <= 100)).toBe(true)
  }
})
