import { expect, test } from 'vitest'
import { called, gridOf, percent } from './grid'

const score = (name: string, site: string, passed: number, failed: number) => ({
  name,
  site,
  passed,
  failed,
  undecidable: 0,
  share: passed + failed ? passed / (passed + failed) : 1,
})

test('sites where everything holds are one line, the others the lowest first', () => {
  const g = gridOf([
    score('policy:a', 'Northgate', 9, 1),
    score('policy:b', 'Northgate', 5, 5),
    score('policy:a', 'Ness Point', 0, 2),
    score('policy:a', 'Dry Dock', 4, 0),
  ])
  expect(g.columns).toEqual(['policy:a', 'policy:b'])
  expect(g.rows.map((r) => r.site)).toEqual(['Ness Point', 'Northgate'])
  expect(g.rows[0]!.cells).toEqual([{ share: 0, held: 0, asked: 2 }, undefined])
  expect(g.fine).toEqual(['Dry Dock'])
})

test('a share is never said to be all where something lacks', () => {
  expect(percent(1)).toBe('100 %')
  expect(percent(0.9999)).toBe('99 %')
  expect(percent(0)).toBe('0 %')
})

test('documents are called as people call them', () => {
  expect(called('policy:management-plane')).toBe('management-plane')
  expect(called('baseline:running')).toBe('running baseline')
})
