import { effectScope, nextTick, ref } from 'vue'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { useOperation } from './useOperation'

/** What the service answers when it is asked for an operation, by number; each waits until it is let go. */
const answers = new Map<number, (finished: boolean) => void>()
vi.mock('../api/client', () => ({
  Refusal: class extends Error {},
  api: { GET: (_: string, init: { params: { path: { operation: number } } }) => init.params.path.operation },
  ask: (number: number) =>
    new Promise((resolve) =>
      answers.set(number, (finished) => resolve({ id: number, finished_at: finished ? '2026-11-27T00:00:00Z' : null })),
    ),
}))

class Stream {
  static open: Stream[] = []
  closed = false
  heard?: (event: { data: string }) => void
  constructor(readonly url: string) {
    Stream.open.push(this)
  }
  addEventListener(_: string, heard: (event: { data: string }) => void) {
    this.heard = heard
  }
  close() {
    this.closed = true
  }
}
vi.stubGlobal('EventSource', Stream)

const settled = async () => {
  await nextTick()
  await new Promise((resolve) => setTimeout(resolve))
}

describe('useOperation', () => {
  beforeEach(() => {
    Stream.open = []
    answers.clear()
  })

  it('follows an operation by its stream until it ends', async () => {
    const ended: number[] = []
    const scope = effectScope()
    const { operation } = scope.run(() => useOperation(ref(7), (o) => ended.push(o.id)))!
    answers.get(7)!(false)
    await settled()
    expect(Stream.open.map((s) => s.url)).toEqual(['/api/v1/operations/7/progress'])
    Stream.open[0]!.heard!({ data: JSON.stringify({ id: 7, finished_at: null, note: 'half' }) })
    expect(operation.value?.note).toBe('half')
    Stream.open[0]!.heard!({ data: JSON.stringify({ id: 7, finished_at: '2026-11-27T00:00:01Z' }) })
    expect(ended).toEqual([7])
    expect(Stream.open[0]!.closed).toBe(true)
    scope.stop()
  })

  it('opens no stream for one that has ended', async () => {
    const scope = effectScope()
    scope.run(() => useOperation(ref(8)))
    answers.get(8)!(true)
    await settled()
    expect(Stream.open).toEqual([])
    scope.stop()
  })

  it('leaves no stream behind when the page is left before the first answer', async () => {
    const scope = effectScope()
    scope.run(() => useOperation(ref(9)))
    scope.stop()
    answers.get(9)!(false)
    await settled()
    expect(Stream.open.filter((s) => !s.closed)).toEqual([])
  })

  it('forgets the one before when another is followed', async () => {
    const id = ref(1)
    const scope = effectScope()
    const { operation } = scope.run(() => useOperation(id))!
    id.value = 2
    await nextTick()
    answers.get(2)!(false)
    await settled()
    answers.get(1)!(false)
    await settled()
    expect(Stream.open.map((s) => s.url)).toEqual(['/api/v1/operations/2/progress'])
    expect(operation.value?.id).toBe(2)
    scope.stop()
    expect(Stream.open.every((s) => s.closed)).toBe(true)
  })
})
