// @vitest-environment happy-dom
import { beforeEach, expect, it } from 'vitest'
import { nextTick } from 'vue'
import { useColumns } from './useColumns'

const columns = [{ key: 'name', fixed: true }, { key: 'plan' }, { key: 'disk' }]
const keys = (list: { key: string }[]) => list.map((c) => c.key)

beforeEach(() => localStorage.clear())

it('leaves out what somebody has chosen, and keeps that', async () => {
  const first = useColumns(
    () => 'accounts',
    () => columns,
  )
  expect(keys(first.shown.value)).toEqual(['name', 'plan', 'disk'])
  first.setHidden(['disk'])
  await nextTick()
  expect(keys(first.shown.value)).toEqual(['name', 'plan'])
  const later = useColumns(
    () => 'accounts',
    () => columns,
  )
  expect(keys(later.shown.value)).toEqual(['name', 'plan'])
})

it('never leaves out what says which row it is', () => {
  const { shown, setHidden } = useColumns(
    () => 'zones',
    () => columns,
  )
  setHidden(['name', 'plan', 'disk', 'gone'])
  expect(keys(shown.value)).toEqual(['name'])
})

it('keeps nothing for a table without a name', async () => {
  const { setHidden } = useColumns(
    () => undefined,
    () => columns,
  )
  setHidden(['disk'])
  await nextTick()
  expect(localStorage.length).toBe(0)
})
