import { api, ask, made, Refusal, type Schemas } from '../../api/client'
import { t } from '../../language'

type Account = Schemas['Account']
export type ActionName = 'suspend' | 'resume' | 'repair' | 'close'

interface Action {
  title: string
  about?: string
  /** Whether there is anything to do with an account. */
  fits: (a: Account) => boolean
  /** Why some are left out: a sentence. */
  leaves: string
  asksWhy?: boolean
  /** There is no way back. */
  final?: boolean
}

export const actions: Record<ActionName, Action> = {
  suspend: {
    title: t('Suspend'),
    about: t('Visitors see a notice. Everything the accounts have stays, and resuming brings back exactly what was.'),
    fits: (a) => a.state === 'active',
    leaves: t('Only active ones can be suspended.'),
    asksWhy: true,
  },
  resume: {
    title: t('Resume'),
    fits: (a) => a.state === 'suspended',
    leaves: t('Only suspended ones can be resumed.'),
  },
  repair: { title: t('Repair'), fits: (a) => a.state !== 'closed', leaves: t('Closed ones cannot be repaired.') },
  close: {
    title: t('Close'),
    about: t('Everything the accounts have on their servers is deleted for good. There is no way back.'),
    fits: (a) => a.state === 'active' || a.state === 'suspended',
    leaves: t('Only open ones can be closed.'),
    final: true,
  },
}

/** What became of it for one account. */
export interface Outcome {
  state: 'waiting' | 'running' | 'done' | 'failed'
  why?: string
}

/** How many are begun at the same time; servers do what comes together in one go. */
const atOnce = 6

function begin(name: ActionName, a: Account, why: string): Promise<{ operation: number }> {
  const path = { account: String(a.id) }
  switch (name) {
    case 'suspend':
      return made(api.POST('/api/v1/accounts/{account}/suspend', { params: { path }, body: { why } }))
    case 'resume':
      return made(api.POST('/api/v1/accounts/{account}/resume', { params: { path } }))
    case 'repair':
      return made(api.POST('/api/v1/accounts/{account}/repair', { params: { path } }))
    case 'close':
      return made(
        api.POST('/api/v1/accounts/{account}/close', {
          params: { path },
          body: { sign_in_name: a.sign_in_name },
        }),
      )
  }
}

/** Waits until an operation has ended. */
async function ended(operation: number, signal: AbortSignal): Promise<Outcome> {
  for (;;) {
    const now = await ask(api.GET('/api/v1/operations/{operation}', { params: { path: { operation } } }))
    if (now.finished_at) return now.state === 'failed' ? { state: 'failed', why: now.failure } : { state: 'done' }
    if (signal.aborted) return { state: 'running' }
    await new Promise((resolve) => setTimeout(resolve, 400))
  }
}

/**
 * Does the same with each of several accounts, some at a time, and tells of each what becomes of it. One
 * that is refused keeps no other from it. When the signal is aborted, no further one is begun.
 */
export async function actOn(
  name: ActionName,
  accounts: Account[],
  why: string,
  tell: (account: number, outcome: Outcome) => void,
  signal: AbortSignal,
): Promise<void> {
  const queue = [...accounts]
  for (const a of queue) tell(a.id, { state: 'waiting' })
  const work = async () => {
    for (let a = queue.shift(); a && !signal.aborted; a = queue.shift()) {
      tell(a.id, { state: 'running' })
      try {
        const { operation } = await begin(name, a, why)
        tell(a.id, await ended(operation, signal))
      } catch (err) {
        if (!(err instanceof Refusal)) throw err
        tell(a.id, { state: 'failed', why: err.message })
      }
    }
  }
  await Promise.all(Array.from({ length: Math.min(atOnce, queue.length) }, work))
}
