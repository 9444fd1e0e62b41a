import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { ref } from 'vue'
import { Refusal } from '../api/client'
import type { Listener } from '../api/live'
import { useLoad } from './useLoad'

const listeners = new Set<Listener>()
vi.mock('../api/live', async () => ({
  connected: (await import('vue')).ref(true),
  onChanges: (listener: Listener) => {
    listeners.add(listener)
    return () => listeners.delete(listener)
  },
}))

/** What the service has, a form over it, and somebody who changes it. */
function page() {
  const typed = ref(false)
  let record: unknown = { version: 1, name: 'harbour' }
  let loaded: ReturnType<typeof useLoad<unknown>>
  let slow: Promise<void> | undefined
  const wrapper = mount({
    setup() {
      loaded = useLoad(
        async () => {
          if (record instanceof Refusal) throw record
          await slow
          return structuredClone(record)
        },
        { live: true, editing: () => typed.value },
      )
      return () => null
    },
  })
  const others = async (to: unknown) => {
    record = to
    vi.advanceTimersByTime(2000) // not more often than every livePause
    for (const listener of listeners) listener({ things: ['plan'] } as never)
    await flushPromises()
  }
  /** Answers wait for it from now on. */
  const slowly = (until: Promise<void>) => (slow = until)
  return { typed, others, slowly, wrapper, loaded: loaded! }
}

describe('useLoad', () => {
  beforeEach(() => vi.useFakeTimers())
  afterEach(() => vi.useRealTimers())

  it('follows what others change, and draws nothing anew that is the same', async () => {
    const { others, loaded, wrapper } = page()
    await flushPromises()
    const before = loaded.data.value
    await others({ version: 1, name: 'harbour' })
    expect(loaded.data.value).toBe(before)
    await others({ version: 2, name: 'haven' })
    expect(loaded.data.value).toEqual({ version: 2, name: 'haven' })
    wrapper.unmount()
    expect(listeners.size).toBe(0)
  })

  it('keeps what is being typed over, and tells that it is outdated', async () => {
    const { typed, others, loaded } = page()
    await flushPromises()
    typed.value = true
    await others({ version: 2, name: 'haven' })
    expect(loaded.data.value).toEqual({ version: 1, name: 'harbour' })
    expect(loaded.outdated.value).toBe(true)
    loaded.showLatest()
    expect(loaded.data.value).toEqual({ version: 2, name: 'haven' })
    expect(loaded.outdated.value).toBe(false)
  })

  it('shows what is pending once nothing is typed, and says nothing of what is not the record’s own', async () => {
    const { typed, others, loaded } = page()
    await flushPromises()
    typed.value = true
    await others({ version: 1, name: 'harbour', accounts: 3 })
    expect(loaded.outdated.value).toBe(false)
    expect(loaded.data.value).toEqual({ version: 1, name: 'harbour' })
    typed.value = false
    await flushPromises()
    expect(loaded.data.value).toEqual({ version: 1, name: 'harbour', accounts: 3 })
  })

  it('shows what the person has done themselves, also when it hears of that before it has loaded it', async () => {
    const { typed, others, slowly, loaded } = page()
    await flushPromises()
    typed.value = true
    let answered = () => {}
    slowly(new Promise((done) => (answered = done)))
    void loaded.reload()
    await others({ version: 2, name: 'haven' }) // what was saved, told by the stream of changes
    answered()
    await flushPromises()
    expect(loaded.data.value).toEqual({ version: 2, name: 'haven' })
    expect(loaded.outdated.value).toBe(false)
  })

  it('shows nothing any longer that somebody has removed', async () => {
    const { others, loaded } = page()
    await flushPromises()
    await others(new Refusal({ type: 'not-found', title: 'Not found', detail: 'no plan', status: 404 } as never))
    expect(loaded.data.value).toBeUndefined()
    expect(loaded.refusal.value?.message).toContain('no plan')
  })
})
