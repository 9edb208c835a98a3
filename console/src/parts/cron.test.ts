import { expect, it } from 'vitest'
import { cronOf, inWords, presetOf } from './cron'

it('says in cron what people mean', () => {
  expect(cronOf('night', '02:05', '0', '')).toBe('5 2 * * *')
  expect(cronOf('week', '03:00', '6', '')).toBe('0 3 * * 6')
  expect(cronOf('month', '23:30', '15', '')).toBe('30 23 15 * *')
  expect(cronOf('cron', '', '', ' */5 * * * * ')).toBe('*/5 * * * *')
})

it('reads back what it said', () => {
  for (const [preset, time, day] of [
    ['night', '02:05', '1'],
    ['week', '03:00', '6'],
    ['month', '23:30', '15'],
  ] as const)
    expect(presetOf(cronOf(preset, time, day, ''))).toEqual({ preset, time, day })
  for (const other of ['*/5 * * * *', '0 2 1 * 3', '0 2 * 6 *', '', 'nonsense'])
    expect(presetOf(other).preset).toBe('cron')
})

it('says an expression in words', () => {
  expect(inWords('0 7 * * *')).toBe('every day at 07:00')
  expect(inWords('30 6 * * 1')).toBe('every Monday at 06:30')
  expect(inWords('0 7 1 * *')).toBe('on day 1 of each month at 07:00')
  expect(inWords('*/5 * * * *')).toBe('*/5 * * * *')
})
