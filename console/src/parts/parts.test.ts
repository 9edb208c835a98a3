import { createApp } from 'vue'
import { VueQueryPlugin } from '@tanstack/vue-query'
import { describe, expect, it } from 'vitest'
import type { Finding, Visit } from '../api/call'
import { reasonsOf } from '../pages/rounds/reasons'
import { useAct } from './act'
import { hexLines } from './bytes'
import { onLines } from './findings'
import { folded, visibleLines } from './folding'
import { daysUntil, duration, marks, plural, quoted, refOf, since, when } from './say'

describe('words', () => {
  const now = new Date('2026-11-23T10:00:00')
  it('says moments as people do', () => {
    expect(when('2026-11-23T02:14:00', now)).toBe('today 02:14')
    expect(when('2026-11-22T21:40:00', now)).toBe('yesterday 21:40')
    expect(when('2026-11-24T00:00:00', now)).toBe('tomorrow 00:00')
    expect(when('2026-11-25T02:00:00', now)).toBe('25 Nov 02:00')
    expect(when('2026-11-14T21:40:00', now)).toBe('14 Nov 21:40')
    expect(when('2025-03-03T21:40:00', now)).toBe('3 Mar 2025')
    expect(when(undefined, now)).toBe('')
  })
  it('says spans and counts', () => {
    expect(since('2026-11-23T09:59:40', now)).toBe('a moment')
    expect(since('2026-11-23T09:00:00', now)).toBe('1 hour')
    expect(since('2026-11-14T09:00:00', now)).toBe('9 days')
    expect(daysUntil('2026-11-23T22:00:00', now)).toBe(0)
    expect(daysUntil('2026-11-24T22:00:00', now)).toBe(1)
    expect(daysUntil('2027-04-01T00:00:00', now)).toBe(129)
    expect(plural(1, 'device')).toBe('1 device')
    expect(plural(0, 'device')).toBe('0 devices')
    expect(marks({ added: 1, removed: 0, changed: 2, moved: 1, volatile: 3, undecidable: 0 })).toBe(
      '2 ~  1 +  1 ↕',
    )
  })
  it('writes refs that the service reads', () => {
    expect(refOf('np-acc-2')).toBe('np-acc-2')
    expect(refOf('Front desk', 'startup', '', 3)).toBe('"Front desk":startup@3')
    expect(refOf('hh-fw-1', 'running', 'guests', 2)).toBe('hh-fw-1:running/guests@2')
  })
})

describe('findings beside their lines', () => {
  const found = (document: string, item: string, severity: Finding['severity']) =>
    ({
      ref: 'a@2',
      state: 'open',
      document,
      item,
      name: item,
      title: item,
      severity,
      proofs: [{ line: 7, says: '' }],
    }) as unknown as Finding
  const said = (...list: Finding[]) => onLines(list, 'a@2').get(7)?.text
  it('says the most severe, and the rule before the drift', () => {
    const drift = found('baseline:running', 'baseline', 'medium')
    const rule = found('policy:p', 'banner', 'medium')
    expect(said(drift, rule)).toBe('banner')
    expect(said(rule, drift)).toBe('banner')
    expect(said(drift, found('policy:p', 'banner', 'low'))).toBe('drifted')
    expect(said(drift)).toBe('drifted')
  })
})

describe('folding', () => {
  const sections = [
    { heading: 'a', line: 1, lastLine: 4, depth: 0 },
    { heading: 'b', line: 2, lastLine: 3, depth: 1 },
    { heading: 'c', line: 5, lastLine: 6, depth: 0 },
  ]
  it('hides what is inside closed sections', () => {
    expect(visibleLines(7, sections, new Set())).toEqual([1, 2, 3, 4, 5, 6, 7])
    expect(visibleLines(7, sections, new Set([2]))).toEqual([1, 2, 4, 5, 6, 7])
    expect(visibleLines(7, sections, folded(sections))).toEqual([1, 5, 7])
  })
  it('does not fold a single root away', () => {
    expect(
      folded([
        { heading: 'r', line: 1, lastLine: 9, depth: 0 },
        ...sections.map((s) => ({ ...s, depth: s.depth + 1 })),
      ]),
    ).toEqual(new Set([1, 5]))
  })
})

describe('reasons of a round', () => {
  it('puts failures first and the largest group first', () => {
    const visit = (device: string, outcome: Visit['outcome'], reason?: string): Visit => ({
      device,
      site: '',
      platform: '',
      outcome,
      ...(reason && { reason }),
    })
    const got = reasonsOf([
      visit('a', 'passed-over', 'paused'),
      visit('b', 'failed', 'hung'),
      visit('c', 'failed', 'refused'),
      visit('d', 'failed', 'refused'),
      visit('e', 'new'),
    ])
    expect(got.map((g) => `${g.code} ${g.visits.length}`)).toEqual(['refused 2', 'hung 1', 'paused 1'])
  })
})

it('shows bytes that are no text as numbers, line by line', () => {
  const bytes = [0x61, 0x0a, 0xff, 0xfe, 0x20, 0x62, 0x0a, 0xc3, 0xa9, 0x0a, 0x80]
  const found = hexLines(btoa(String.fromCharCode(...bytes)))
  expect([...found]).toEqual([
    [2, 'ff fe 20 62'],
    [4, '80'],
  ])
  const long = hexLines(btoa('\xff'.repeat(1000)))
  expect(long.get(1)).toMatch(/^(ff ){63}ff … 1,000 bytes$/)
  expect(hexLines('').size).toBe(0)
})

it('says durations as people do', () => {
  expect([0, 7.4, 999, 1000, 59_949, 60_000, 125_000].map(duration)).toEqual([
    '0 ms',
    '7 ms',
    '999 ms',
    '1.0 s',
    '59.9 s',
    '1 min 0 s',
    '2 min 5 s',
  ])
})

it('quotes names with blanks', () => {
  expect(quoted('np-acc-1')).toBe('np-acc-1')
  expect(quoted('Front desk')).toBe('"Front desk"')
  expect(refOf('Front desk', 'startup', '', 3)).toBe('"Front desk":startup@3')
})

it('tells whether an act went well, and what it said if not', async () => {
  const { failed, busy, act } = createApp({})
    .use(VueQueryPlugin)
    .runWithContext(() => useAct('x'))
  expect(await act(() => Promise.resolve(1))).toBe(true)
  const going = act(() => Promise.reject(new Error('no')))
  expect(busy.value).toBe(true)
  expect(await going).toBe(false)
  expect(failed.value?.message).toBe('no')
  expect(busy.value).toBe(false)
  await act(() => Promise.resolve(1))
  expect(failed.value).toBeNull()
})
