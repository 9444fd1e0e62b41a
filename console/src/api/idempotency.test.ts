import createClient from 'openapi-fetch'
import { beforeEach, describe, expect, it } from 'vitest'
import { idempotency } from './idempotency'

type Sent = { method: string; url: string; key: string | null }
const sent: Sent[] = []
let answers: (number | 'lost')[] = []

const client = createClient<Record<string, never>>({
  baseUrl: 'http://console.test/',
  fetch: async (request: Request) => {
    sent.push({ method: request.method, url: request.url, key: request.headers.get('Idempotency-Key') })
    await request.text() // sending it uses it up
    const answer = answers.shift() ?? 200
    if (answer === 'lost') throw new TypeError('network')
    return new Response('{}', { status: answer, headers: { 'Content-Type': 'application/json' } })
  },
}) as unknown as Record<'GET' | 'POST' | 'PUT', (path: string, init?: object) => Promise<unknown>>
;(client as unknown as { use: (m: typeof idempotency) => void }).use(idempotency)

const keys = () => sent.map((s) => s.key)

describe('idempotency', () => {
  beforeEach(() => {
    sent.length = 0
    answers = []
  })

  it('keeps the key of a request whose answer was lost, as long as its content stays the same', async () => {
    answers = ['lost', 500, 200]
    await expect(client.POST('/accounts', { body: { domain: 'gull.test' } })).rejects.toThrow()
    await client.POST('/accounts', { body: { domain: 'gull.test' } })
    await client.POST('/accounts', { body: { domain: 'gull.test' } })
    expect(new Set(keys()).size).toBe(1)
    expect(keys()[0]).toBeTruthy()
  })

  it('takes another key for other content, and for the same content once it was answered', async () => {
    answers = ['lost', 'lost', 200, 409, 200]
    await expect(client.POST('/accounts', { body: { domain: 'gull.test' } })).rejects.toThrow()
    await expect(client.POST('/accounts', { body: { domain: 'tern.test' } })).rejects.toThrow()
    await client.POST('/accounts', { body: { domain: 'gull.test' } })
    await client.POST('/accounts', { body: { domain: 'gull.test' } })
    await client.POST('/accounts', { body: { domain: 'gull.test' } })
    const [gull, tern, repeated, refused, anew] = keys()
    expect(tern).not.toBe(gull)
    expect(repeated).toBe(gull)
    expect(refused).not.toBe(gull)
    expect(anew).not.toBe(refused)
  })

  it('leaves previews and other methods alone', async () => {
    await client.POST('/accounts', { body: {}, params: { query: { preview: true } } })
    await client.GET('/accounts')
    await client.PUT('/settings', { body: {} })
    expect(keys()).toEqual([null, null, null])
  })
})
