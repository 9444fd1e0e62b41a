import { expect, it } from 'vitest'
import type { Area } from '../router'
import { areas } from '.'

const files = import.meta.glob<{ default: Area }>('./*/area.ts', { eager: true })

it('lists every area', () => {
  for (const [file, module] of Object.entries(files)) expect(areas, file).toContain(module.default)
  expect(areas).toHaveLength(Object.keys(files).length)
})

it('has a key of its own for each area that has one, and one page for each address', () => {
  const keys = areas.flatMap((area) => area.key ?? [])
  expect(new Set(keys).size).toBe(keys.length)
  const paths = areas.flatMap((area) => area.routes.map((route) => route.path))
  expect(new Set(paths).size).toBe(paths.length)
})
