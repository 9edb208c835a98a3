import { describe, expect, it } from 'vitest'
import type { Row } from '../../api/call'
import { cellsOf, firstRowOf, groupsOf, halves, note, pieces, treeOf, unifiedHalves } from './rows'

const rows: Row[] = [
  { kind: 'skipped', count: 9 },
  { kind: 'equal', left: 10, right: 10, leftText: 'interface a' },
  {
    kind: 'changed',
    left: 11,
    right: 11,
    leftText: 'x 1',
    rightText: 'x 2',
    path: ['interface a'],
    leftWords: [{ from: 2, to: 3 }],
    rightWords: [{ from: 2, to: 3 }],
  },
  { kind: 'removed', left: 12, leftText: 'y', path: ['interface a'] },
  { kind: 'equal', left: 13, right: 12, leftText: 'z' },
  { kind: 'changed', left: 14, right: 13, leftText: 't 1', rightText: 't 2', aside: 'volatile' },
  { kind: 'moved', left: 15, leftText: 'rule 30', other: 20, path: ['rules'] },
]

describe('rows of a comparison', () => {
  it('groups neighbouring differences that count', () => {
    expect(groupsOf(rows)).toEqual([
      { from: 2, to: 3 },
      { from: 6, to: 6 },
    ])
    expect(groupsOf([])).toEqual([])
  })
  it('finds the first row of a section', () => {
    expect(firstRowOf(rows, ['rules'])).toBe(6)
    expect(firstRowOf(rows, ['nowhere'])).toBe(0)
  })
  it('cuts a line where it changed', () => {
    expect(pieces('lan trunk 10', [{ from: 10, to: 12 }])).toEqual([
      { text: 'lan trunk ', strong: false },
      { text: '10', strong: true },
    ])
    expect(pieces('', undefined)).toEqual([{ text: '', strong: false }])
  })
  it('marks each kind with a sign of its own, not by colour alone', () => {
    expect(halves(rows[2]!).map((h) => h.mark)).toEqual(['−', '+'])
    expect(halves(rows[3]!).map((h) => h.mark)).toEqual(['−', ''])
    expect(halves(rows[6]!).map((h) => h.mark)).toEqual(['↕', ''])
    expect(halves({ ...rows[2]!, secretChanged: true }).map((h) => h.mark)).toEqual(['~', '~'])
    expect(halves(rows[5]!).map((h) => h.mark)).toEqual(['', ''])
  })
  it('says what is special', () => {
    expect(note(rows[6]!)).toBe('now line 20')
    expect(note(rows[5]!)).toBe('changes by itself')
    expect(note({ kind: 'changed', secretChanged: true })).toBe('the secret changed')
  })
  it('shows a changed line as two in the unified view', () => {
    expect(unifiedHalves(rows[2]!)).toHaveLength(2)
    expect(unifiedHalves(rows[1]!)).toHaveLength(1)
  })
})

describe('the tree and the table', () => {
  const none = { added: 0, removed: 0, changed: 0, moved: 0, volatile: 0, undecidable: 0 }
  it('shows each heading once, in the order of the text', () => {
    const tree = treeOf([
      { path: ['ports', 'a'], stats: { ...none, added: 1 } },
      { path: ['time'], stats: { ...none, changed: 1 } },
      { path: ['ports', 'b', 'c'], stats: { ...none, removed: 2 } },
      { path: [], stats: { ...none, added: 1 } },
    ])
    expect(tree.map((b) => `${'.'.repeat(b.depth)}${b.name}${b.stats ? '' : ' -'}`)).toEqual([
      'ports -',
      '.a',
      '.b -',
      '..c',
      'time',
      '(top)',
    ])
  })
  it('names the parameter and both values', () => {
    const list = cellsOf([
      ...rows,
      {
        kind: 'changed',
        left: 1,
        right: 1,
        leftText: '  <mtu>1500</mtu>',
        rightText: '  <mtu>9000</mtu>',
        leftWords: [{ from: 7, to: 11 }],
        rightWords: [{ from: 7, to: 11 }],
      },
      { kind: 'changed', left: 2, right: 2, leftText: 'key ●●', rightText: 'key ●●', secretChanged: true },
      { kind: 'moved', right: 3, other: 9, rightText: 'rule 30' },
      { kind: 'added', right: 4, rightText: 'disabled' },
    ])
    expect(list.map((c) => [c.section, c.parameter, c.left, c.right])).toEqual([
      ['interface a', 'x', '1', '2'],
      ['interface a', 'y', '(there)', ''],
      ['(top)', 'mtu', '1500', '9000'],
      ['(top)', 'key ●●', '(hidden)', '(hidden, another one)'],
      ['(top)', 'rule 30', 'line 9', 'line 3'],
      ['(top)', 'disabled', '', '(there)'],
    ])
  })
})
