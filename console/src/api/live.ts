import { ref, watch } from 'vue'
import type { Schemas } from './client'
import { session } from '../areas/session/state'

/**
 * What others change, as the service tells it: one stream for the window, whatever the page shows. It
 * is there while the window is seen and somebody listens; when it begins anew, everybody who listens
 * is told, as something may have been missed meanwhile.
 */
type Changes = Schemas['Changes']
export type Listener = (changes: Changes) => void

const listeners = new Set<Listener>()
/** Whether the stream is there. What it would tell is loaded from time to time otherwise. */
export const connected = ref(false)

/** Reads server-sent events (WHATWG HTML, section 9.2) from a text; the rest, without its end, is returned. */
export function readEvents(text: string, tell: (event: string, data: string) => void): string {
  const blocks = text.split('\n\n')
  const rest = blocks.pop() ?? ''
  for (const block of blocks) {
    let event = 'message'
    const data: string[] = []
    for (const line of block.split('\n')) {
      if (line.startsWith('event: ')) event = line.slice(7)
      if (line.startsWith('data: ')) data.push(line.slice(6))
    }
    if (data.length) tell(event, data.join('\n'))
  }
  return rest
}

let running: AbortController | undefined
let begun = false

const needed = () => listeners.size > 0 && !document.hidden && session.value !== undefined

// The browser's own EventSource cannot say that nobody may be there, so that it would keep the
// session alive.
async function follow(signal: AbortSignal) {
  const response = await fetch('/api/v1/changes', { signal, headers: { 'Victualler-Unattended': 'true' } })
  if (!response.ok || !response.body) throw new Error(`answered ${response.status}`)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let text = ''
  let first = begun // of a stream that was there before
  for (;;) {
    const { value, done } = await reader.read()
    if (done) return
    text = readEvents(text + value, (event, data) => {
      if (event !== 'changes') return
      const changes = JSON.parse(data) as Changes
      connected.value = true
      begun = true
      if (first || changes.things.length) for (const listener of [...listeners]) listener(changes)
      first = false
    })
  }
}

async function run() {
  if (running || !needed()) return
  const mine = new AbortController()
  running = mine
  let pause = 1000
  while (!mine.signal.aborted && needed()) {
    const began = Date.now()
    try {
      await follow(mine.signal)
    } catch {
      // It is begun anew, as long as somebody listens.
    }
    connected.value = false
    if (mine.signal.aborted) break
    pause = Date.now() - began > 10_000 ? 1000 : Math.min(pause * 2, 30_000)
    await new Promise((resolve) => setTimeout(resolve, pause))
  }
  if (running === mine) running = undefined
}

function stop() {
  running?.abort()
  running = undefined
  connected.value = false
}

/** Calls a function with everything that changes; returns how to end that. */
export function onChanges(listener: Listener): () => void {
  listeners.add(listener)
  void run()
  return () => {
    listeners.delete(listener)
    // A page that is left for another one that listens, too, keeps the stream.
    setTimeout(() => {
      if (listeners.size === 0) stop()
    }, 2000)
  }
}

document.addEventListener('visibilitychange', () => (document.hidden ? stop() : void run()))
watch(session, (now) => (now ? void run() : stop()))
