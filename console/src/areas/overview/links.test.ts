// @vitest-environment happy-dom
import { expect, it } from 'vitest'
import { areas } from '..'
import { caseLink, figureLink, listLink } from './links'

const kinds = [
  'server-unreachable',
  'server-program-down',
  'server-full',
  'server-limits-missing',
  'certificates-failing',
  'certificates-ending',
  'operations-stuck',
  'operations-failed',
  'accounts-drifting',
  'accounts-full',
  'accounts-warned',
  'sending-stopped',
  'domains-waiting',
] as const

it('leads to lists that there are', () => {
  const lists = areas.flatMap((area) => area.home ?? [])
  for (const kind of kinds) expect(lists, kind).toContain(listLink(kind)!.split('?')[0])
  for (const key of ['accounts', 'operations', 'operations-failed'])
    expect(lists, key).toContain(figureLink(key).split('?')[0])
})

it('leads to what has a name of its own', () => {
  expect(caseLink('server-full', 'skua')).toBe('/servers/skua')
  expect(caseLink('accounts-full', 'ferries.example')).toBe('/accounts/ferries.example')
  expect(caseLink('operations-failed', 'account 7 ferries')).toBeUndefined()
  expect(figureLink('disk.skua')).toBe('/servers/skua')
})
