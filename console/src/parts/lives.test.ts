import { describe, expect, it } from 'vitest'
import type { LineHistory, Revision } from '../api/call'
import { besides } from './lives'

const revision = (number: number, firstSeen: string, author?: string) =>
  ({ number, firstSeen, lastSeen: firstSeen, ref: `a@${number}`, ...(author ? { author } : {}) }) as Revision

describe('what stands beside lines', () => {
  const now = new Date('2026-11-23T12:00:00Z')
  const h: LineHistory = {
    device: 'a',
    revision: revision(3, '2026-11-23T02:00:00Z'),
    revisions: [
      revision(1, '2026-03-12T02:00:00Z'),
      revision(2, '2026-11-10T02:00:00Z'),
      revision(3, '2026-11-23T02:00:00Z', 'svc-night'),
    ],
    lines: [
      { text: 'a', since: 1 },
      { text: 'b', since: 1 },
      { text: 'c', since: 3, was: 'c 1', before: [{ from: 1, last: 1 }] },
      { text: 'd', since: 2 },
    ],
  }
  it('is said once for lines that came together', () => {
    const list = besides(h, now)
    expect(list.map((b) => b.text)).toEqual([
      expect.stringMatching(/^12 Mar/),
      '',
      'today · svc-night',
      expect.stringMatching(/^10 Nov/),
    ])
    expect(list.map((b) => b.edge)).toEqual(['border-line', 'border-line', 'border-accent', 'border-second'])
    expect(list[2]!.title).toContain('It was: c 1')
    expect(list[2]!.title).toContain('It stood before, from @1')
    expect(besides(undefined)).toEqual([])
  })
})
