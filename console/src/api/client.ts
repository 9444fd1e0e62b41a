import createClient, { type Middleware } from 'openapi-fetch'
import type { components, paths } from './schema'
import { signInAgain } from '../areas/session/state'
import { attended } from './attention'
import { idempotency } from './idempotency'
import { language, t } from '../language'

export type Schemas = components['schemas']
export type Problem = Schemas['Problem']

/** A refusal by the service, with the fields at fault. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail || problem.title)
  }

  /** The last part of the problem's type, such as "limit-reached". */
  get kind(): string {
    return this.problem.type.split('/').pop() ?? ''
  }

  /** What is wrong with one field, if anything. */
  field(name: string): string | undefined {
    return this.problem.errors?.find((e) => e.name === name)?.message
  }
}

// A session that has ended is signed in again in place: the page stays as it
// is, with everything typed in it, and the request is made once more.
const copies = new WeakMap<Request, Request>()
const signIn: Middleware = {
  onRequest({ request }) {
    // A page that keeps itself current is nobody's doing: it must not keep the session alive.
    if (!attended()) request.headers.set('Victualler-Unattended', 'true')
    request.headers.set('Accept-Language', language)
    copies.set(request, request.clone())
    return request
  },
  async onResponse({ request, response }) {
    const path = new URL(request.url).pathname
    // The holder of a mailbox signs in on a page of their own.
    const holder = path === '/api/v1/mailbox' || path.startsWith('/api/v1/mailbox/')
    if (response.status !== 401 || holder || (request.method === 'POST' && path.includes('/api/v1/session')))
      return response
    await signInAgain()
    return fetch(copies.get(request)!)
  },
}

/** No answer has come: the request may have arrived, and only its answer be lost. */
class Unanswered extends Error {
  constructor(readonly method: string) {
    super(t('no answer'))
  }
}

/** How long to wait before asking again for what got no answer. */
export const again = () => new Promise((resolve) => setTimeout(resolve, 400))

// A network that has just changed drops what is on its way. Reading is asked once more before anybody hears of it.
async function patient(request: Request): Promise<Response> {
  try {
    if (request.method !== 'GET') return await fetch(request)
    try {
      return await fetch(request.clone())
    } catch {
      await again()
      return await fetch(request)
    }
  } catch {
    throw new Unanswered(request.method)
  }
}

export const api = createClient<paths>({ baseUrl: '/', fetch: patient })
// The key comes first: what is sent again after a sign-in has the same one.
api.use(idempotency)
api.use(signIn)

/** Returns the answer's document, or throws a {@link Refusal}. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let outcome
  try {
    outcome = await call
  } catch (err) {
    const changes = err instanceof Unanswered && err.method !== 'GET'
    throw new Refusal({
      type: 'unreachable',
      title: t('The service does not answer'),
      detail: changes
        ? t('The service does not answer. It may have been done; trying again is safe.')
        : t('The service does not answer. Try again in a moment.'),
      status: 0,
    })
  }
  if (outcome.response.ok) return outcome.data as T
  const problem = outcome.error as Problem | undefined
  throw new Refusal(
    problem?.type
      ? problem
      : {
          type: 'unreadable',
          title: t('The service answers {status}', { status: outcome.response.status }),
          status: outcome.response.status,
        },
  )
}

type Preview = Schemas['Preview']

/** What a change came to: the answer of a call that was not asked for a preview. */
export function made<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<Exclude<T, Preview>> {
  return ask(call) as Promise<Exclude<T, Preview>>
}

/** What a change would do: the answer of a call that was asked for a preview. */
export function foreseen(call: Promise<{ data?: unknown; error?: unknown; response: Response }>): Promise<Preview> {
  return ask(call) as Promise<Preview>
}
