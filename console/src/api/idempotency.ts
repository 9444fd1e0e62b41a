import type { Middleware } from 'openapi-fetch'

/**
 * The keys of requests that have got no answer yet, by what they ask for. While an answer is missing nobody knows
 * whether the thing was done, so the same content sent again has the same key, and is done once. Any other content
 * has another key; and so has the same content once it has been answered.
 */
const unanswered = new Map<string, string>()
/** What each request that is on its way asks for: once it is sent, its body cannot be read again. */
const contents = new WeakMap<Request, string>()

async function contentOf(request: Request): Promise<string> {
  return `${request.url}\n${await request.clone().text()}`
}

/** Previews change nothing, and other methods than POST may be repeated as they are (RFC 9110, section 9.2.2). */
function needsKey(request: Request): boolean {
  return request.method === 'POST' && new URL(request.url).searchParams.get('preview') !== 'true'
}

/** Gives every POST an Idempotency-Key. */
export const idempotency: Middleware = {
  async onRequest({ request }) {
    if (!needsKey(request)) return
    const content = await contentOf(request)
    const key = unanswered.get(content) ?? crypto.randomUUID()
    unanswered.set(content, key)
    contents.set(request, content)
    request.headers.set('Idempotency-Key', key)
    return request
  },
  onResponse({ request, response }) {
    // A server that failed may have done it all the same.
    const content = contents.get(request)
    if (response.status < 500 && content !== undefined) unanswered.delete(content)
  },
}
