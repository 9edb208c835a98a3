import { describe, expect, it } from 'vitest'
import { bars } from './bars'

const note = (fresh: number, late: number, stale: number, none: number) => ({
  at: '2026-11-23T02:00:00Z',
  counts: { fresh, late, stale, none },
})

describe('the freshness picture', () => {
  it('fills its height and nothing more', () => {
    for (const n of [note(54, 0, 0, 0), note(50, 2, 2, 0), note(0, 0, 0, 54), note(9999, 1, 0, 0)]) {
      const [bar] = bars([n])
      const sum = bar!.parts.reduce((s, p) => s + p.height, 0)
      expect(sum).toBeCloseTo(92, 5)
      expect(Math.min(...bar!.parts.map((p) => p.y))).toBeCloseTo(0, 5)
    }
  })
  it('shows one late device among ten thousand', () => {
    const [bar] = bars([note(9999, 1, 0, 0)])
    expect(bar!.parts.find((p) => p.kind === 'late')!.height).toBeGreaterThanOrEqual(3)
  })
  it('draws nothing of nothing, and the newest of many', () => {
    expect(bars([])).toEqual([])
    expect(bars(Array.from({ length: 500 }, () => note(1, 0, 0, 0)))).toHaveLength(200)
  })
})
