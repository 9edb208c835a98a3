import { describe, expect, it } from 'vitest'
import type { Device } from '../../api/call'
import { lines, ordered, wrong } from './fields'

function device(name: string, more: Partial<Device> = {}): Device {
  return {
    id: 1,
    name,
    site: 'Northgate',
    role: 'access',
    platform: 'tidegate',
    address: '',
    labels: [],
    state: 'active',
    freshness: 'fresh',
    edition: 1,
    ...more,
  }
}
const trouble = (since: string) => ({ reason: 'refused', what: 'It refused.', advice: '', since })

describe('the fleet', () => {
  it('puts what is wrong first, the stalest first', () => {
    const list = [
      device('a'),
      device('b', { freshness: 'late', problem: trouble('2026-11-23T02:00:00Z') }),
      device('c', { freshness: 'stale', problem: trouble('2026-11-14T02:00:00Z') }),
    ]
    expect(ordered(list, 'wrong').map((d) => d.name)).toEqual(['c', 'b', 'a'])
    expect(ordered(list, '-wrong').map((d) => d.name)).toEqual(['a', 'b', 'c'])
  })
  it('puts what was never saved behind what failed, the longest first', () => {
    const list = [
      device('fine'),
      device('new', { unsaved: 2, unsavedSince: '2026-11-22T02:00:00Z' }),
      device('old', { unsaved: 1, unsavedSince: '2026-11-02T02:00:00Z' }),
      device('bad', { problem: trouble('2026-11-23T02:00:00Z') }),
      device('odd', { suspect: 'It shrank.' }),
    ]
    expect(ordered(list, 'wrong').map((d) => d.name)).toEqual(['bad', 'odd', 'old', 'new', 'fine'])
    expect(wrong(list[2]!)).toMatch(/^1 line not saved for \d+ days?$/)
    expect(wrong(list[0]!)).toBe('')
    expect(wrong(device('p', { state: 'paused' }))).toBe('paused')
    expect(lines(list, 'wrong', 'name').filter((l) => 'heading' in l).length).toBe(3)
  })
  it('orders names as people do', () => {
    const list = ['t10', 't2', 't1'].map((n) => device(n))
    expect(ordered(list, 'name').map((d) => d.name)).toEqual(['t1', 't2', 't10'])
    expect(ordered(list, '-name').map((d) => d.name)).toEqual(['t10', 't2', 't1'])
  })
  it('shows the newest change first', () => {
    const list = [
      device('old', { lastChange: '2026-01-01T00:00:00Z' }),
      device('new', { lastChange: '2026-11-01T00:00:00Z' }),
      device('never'),
    ]
    expect(ordered(list, 'change').map((d) => d.name)).toEqual(['new', 'old', 'never'])
  })
  it('groups under headings with counts', () => {
    const list = [
      device('a', { site: 'B' }),
      device('b', { site: 'A', problem: trouble('2026-11-14T02:00:00Z') }),
      device('c', { site: 'A' }),
    ]
    const got = lines(list, 'site', 'name').map((l) =>
      'heading' in l ? `${l.heading} ${l.count} ${l.wrong}` : l.device.name,
    )
    expect(got).toEqual(['A 2 1', 'b', 'c', 'B 1 0', 'a'])
  })
  it('orders ten thousand devices quickly enough to type along', () => {
    const list = Array.from({ length: 10_000 }, (_, i) => device(`d-${(i * 7919) % 10_000}`))
    expect(ordered(list, 'name')).toHaveLength(10_000)
    expect(ordered(list, 'name')[9_999]!.name).toBe('d-9999')
  })
})
