import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { ago, amount, moment, readAmount, size, until } from './words'

describe('sizes and amounts', () => {
  it.each([
    [0, '0B'],
    [1023, '1023B'],
    [1024, '1K'],
    [1536, '1.5K'],
    [500 * 1024 ** 2, '500M'],
    [20 * 1024 ** 3, '20G'],
    [1.5 * 1024 ** 4, '1.5T'],
    [5000 * 1024 ** 4, '5000T'],
  ])('writes %d bytes as %s', (bytes, text) => expect(size(bytes)).toBe(text))

  it('tells nothing known from unlimited', () => {
    expect(size(null)).toBe('–')
    expect(amount(undefined, 'count')).toBe('–')
    expect(amount(null, 'count')).toBe('unlimited')
    expect(amount(12345, 'count')).toBe('12,345')
    expect(amount(80, 'percent')).toBe('80%')
  })

  it.each([
    ['unlimited', 'bytes', { value: null }],
    ['500M', 'bytes', { value: 500 * 1024 ** 2 }],
    ['1.5 TiB', 'bytes', { value: 1.5 * 1024 ** 4 }],
    ['0', 'bytes', { value: 0 }],
    ['7b', 'bytes', { value: 7 }],
    ['30%', 'percent', { value: 30 }],
    ['12', 'count', { value: 12 }],
  ])('reads %s as %s', (text, unit, answer) => expect(readAmount(text, unit)).toEqual(answer))

  it.each([
    ['20480', 'bytes', '20480 what? write 20480M or 20G'],
    ['lots', 'bytes', 'is not a size'],
    ['-3', 'count', 'is not a number'],
  ])('asks what %s (%s) means', (text, unit, question) =>
    expect((readAmount(text, unit) as { wrong: string }).wrong).toContain(question),
  )

  it('reads what it writes', () => {
    for (const bytes of [0, 1024, 3 * 1024 ** 2, 7 * 1024 ** 3, 2 * 1024 ** 4])
      expect(readAmount(size(bytes), 'bytes')).toEqual({ value: bytes })
  })
})

describe('times', () => {
  beforeEach(() => vi.useFakeTimers({ now: new Date('2026-11-27T12:00:00Z') }))
  afterEach(() => vi.useRealTimers())

  it('writes moments so that they sort', () => {
    expect(moment('2026-02-03T04:05:06Z')).toMatch(/^2026-02-0\d \d\d:\d\d:06$/)
    expect(moment(null)).toBe('never')
  })

  it.each([
    ['2026-11-27T11:59:30Z', '30 sec ago'],
    ['2026-11-27T11:30:00Z', '30 min ago'],
    ['2026-11-27T10:30:00Z', '90 min ago'],
    ['2026-11-27T07:00:00Z', '5 hr ago'],
    ['2026-11-20T12:00:00Z', '7 days ago'],
    [undefined, 'never'],
  ])('writes that %s was %s', (text, words) => expect(ago(text)).toBe(words))

  it.each([
    ['2026-12-09T12:00:00Z', '12 days'],
    ['2026-11-27T12:00:20Z', '1 min'],
    ['2026-11-27T09:00:00Z', '3 hr ago'],
  ])('writes that %s is in %s', (text, words) => expect(until(text)).toBe(words))
})
