import { describe, expect, it } from 'vitest'
import type { Found, Hit } from '../../api/call'
import { answerOf, askedIn, fromSaved, shelves, toQuery, toQuestion } from './question'

describe('a search in the address', () => {
  it('comes back as it was', () => {
    const addresses: Record<string, string>[] = [
      { q: 'server 192.0.2.66' },
      { q: '^server', regexp: '1', case: 'exact', scope: 'history', selector: 'site=Northgate' },
      { in: 'interface', lack: 'description **', without: '1', scope: 'at', at: '9d' },
    ]
    for (const q of addresses) expect(toQuery(askedIn(q))).toEqual(q)
  })
  it('asks nothing before there is something to ask', () => {
    expect(toQuestion(askedIn({}))).toBeUndefined()
    expect(toQuestion(askedIn({ q: 'x', scope: 'at' }))).toBeUndefined()
    expect(toQuestion(askedIn({ in: 'interface', have: 'mtu *, , lan **' }))).toMatchObject({
      in: 'interface',
      have: ['mtu *', 'lan **'],
      lack: [],
    })
  })
  it('is made of a saved one', () => {
    const asked = fromSaved({ name: 'n', account: 'a', at: '', question: { text: 'x', regexp: true } })
    expect(asked).toMatchObject({ text: 'x', regexp: true, anyCase: false, scope: 'now' })
  })
})

const found = (change: Partial<Found>): Found => ({
  total: 0,
  complete: true,
  hits: [],
  devices: [],
  sections: [],
  without: [],
  searched: 106,
  masked: false,
  selector: '',
  ...change,
})

describe('what was found', () => {
  const hit = (ref: string): Hit => ({ device: 'd', ref, line: 1, text: 'x', path: [] })
  it('is said in words', () => {
    const a = askedIn({ q: 'x' })
    expect(answerOf(found({}), a)).toBe('Nothing was found; 106 configurations looked through.')
    expect(answerOf(found({ total: 1, hits: [hit('a@1')], devices: [{ device: 'a', count: 1 }] }), a)).toBe(
      '1 line in 1 device; 106 configurations looked through.',
    )
    expect(answerOf(found({ total: 9, hits: [hit('a@1')] }), a)).toContain('The first 1 are shown.')
    expect(answerOf(found({ without: ['b'] }), { ...a, without: true })).toContain(
      '1 device does not have it',
    )
    expect(answerOf(found({}), { ...a, without: true })).toContain('Every device has it')
  })
  it('is put on shelves', () => {
    expect(shelves([hit('a@1'), hit('a@1'), hit('a:startup@1')]).map((s) => [s.ref, s.hits.length])).toEqual([
      ['a', 2],
      ['a:startup', 1],
    ])
  })
})
