// @vitest-environment happy-dom
import { afterEach, expect, it, vi } from 'vitest'
import type { Schemas } from '../../api/client'
import { actOn, actions, type Outcome } from './many'

type Account = Schemas['Account']
const account = (id: number, state: Account['state'] = 'active') =>
  ({ id, state, name: `a${id}.example`, sign_in_name: `a${id}` }) as Account

const answer = (body: unknown, status = 200) =>
  new Response(JSON.stringify(body), { status, headers: { 'Content-Type': 'application/json' } })

afterEach(() => vi.unstubAllGlobals())

it('tells of each account what becomes of it, and is not kept by one that is refused', async () => {
  vi.stubGlobal(
    'fetch',
    vi.fn((request: Request) => {
      const path = new URL(request.url).pathname
      if (path.endsWith('/accounts/2/suspend'))
        return Promise.resolve(answer({ type: '/problems/not-allowed', title: 'No', detail: 'not this one' }, 403))
      if (path.includes('/suspend')) return Promise.resolve(answer({ operation: Number(path.split('/')[4]) }, 202))
      const failed = path.endsWith('/3')
      return Promise.resolve(
        answer({ state: failed ? 'failed' : 'done', failure: failed ? 'the disk is full' : '', finished_at: 'now' }),
      )
    }),
  )
  const last = new Map<number, Outcome>()
  const signal = new AbortController().signal
  await actOn(
    'suspend',
    [1, 2, 3].map((n) => account(n)),
    'a test',
    (id, o) => last.set(id, o),
    signal,
  )
  expect(Object.fromEntries(last)).toEqual({
    1: { state: 'done' },
    2: { state: 'failed', why: 'not this one' },
    3: { state: 'failed', why: 'the disk is full' },
  })
})

it('begins no further one when it is stopped', async () => {
  const stop = new AbortController()
  stop.abort()
  const fetch = vi.fn()
  vi.stubGlobal('fetch', fetch)
  const told: string[] = []
  await actOn('repair', [account(1)], '', (_, o) => told.push(o.state), stop.signal)
  expect(told).toEqual(['waiting'])
  expect(fetch).not.toHaveBeenCalled()
})

it('leaves out accounts for which there is nothing to do', () => {
  expect(actions.suspend.fits(account(1, 'suspended'))).toBe(false)
  expect(actions.resume.fits(account(1, 'suspended'))).toBe(true)
  expect(actions.close.fits(account(1, 'closing'))).toBe(false)
  expect(actions.repair.fits(account(1, 'closed'))).toBe(false)
})
