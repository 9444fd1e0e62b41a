// @vitest-environment happy-dom
import { expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { actionsOn, places, readLine } from './search'

const account = (state: string) =>
  ({
    id: 7,
    name: 'ferries.example',
    sign_in_name: 'ferries',
    customer: 'Tern Ferries',
    state,
  }) as unknown as Schemas['Account']
const everything = () => true
const areas = [
  { label: 'Events', home: '/events' },
  { label: 'Zones', home: '/zones' },
]

it('reads a verb and what it is about', () => {
  expect(readLine(' suspend  north quay ')).toEqual({ verb: 'suspend', about: 'north quay' })
  expect(readLine('Close')).toEqual({ verb: 'close', about: '' })
  expect(readLine('suspended')).toEqual({ about: 'suspended' })
  expect(readLine('close.example')).toEqual({ about: 'close.example' })
})

it('offers what can be done with an account as it is, to those who may', () => {
  expect(actionsOn('suspend', [account('active')], everything)).toEqual([
    { to: '/accounts/ferries?do=suspend', title: 'Suspend ferries.example', about: 'ferries · Tern Ferries' },
  ])
  expect(actionsOn('suspend', [account('suspended')], everything)).toEqual([])
  expect(actionsOn('resume', [account('suspended')], everything)).toHaveLength(1)
  expect(actionsOn('close', [account('active')], (p) => p !== 'accounts.close')).toEqual([])
  expect(actionsOn('go', [account('active')], everything)).toEqual([])
})

it('finds forms and areas by their beginnings', () => {
  const titles = (text: string, may = everything) => places(text, areas, may).map((h) => h.title)
  expect(titles('add pl')).toEqual(['Add a plan'])
  expect(titles('op')).toEqual(['Open an account'])
  expect(titles('open gannet.example')).toEqual(['Open an account for gannet.example'])
  expect(titles('ev')).toEqual(['Events'])
  expect(titles('go')).toEqual(['Events', 'Zones'])
  expect(titles('go zo')).toEqual(['Zones'])
  expect(titles('ferries')).toEqual([])
  expect(titles('add', () => false)).toEqual([])
})
