import { expect, it } from 'vitest'
import type { Schemas } from '../../api/client'
import { fullest, share } from './usage'

const limit = (key: string, used: number | null, value: number | null) =>
  ({ key, title: key, unit: 'count', used, value, left: null, source: 'plan skiff' }) as Schemas['Allowed']

it('lists the fullest limits first, and none that has no bound or is not counted', () => {
  const list = [
    limit('domains', 1, 2),
    limit('disk', 95, 100),
    limit('traffic', null, 100),
    limit('files', 7, null),
    limit('lists', 0, 0),
    limit('tasks', 2, 0),
  ]
  expect(fullest(list, 9).map((l) => l.key)).toEqual(['tasks', 'disk', 'domains'])
  expect(fullest(list, 1).map((l) => l.key)).toEqual(['tasks'])
})

it('has no share of what is not bounded', () => {
  expect(share(limit('files', 7, null))).toBeUndefined()
  expect(share(limit('lists', 0, 0))).toBeUndefined()
  expect(share(limit('disk', 30, 20))).toBe(1.5)
})
