import { onScopeDispose, ref, shallowRef, watch, type WatchSource } from 'vue'
import { Refusal } from '../api/client'
import { connected, onChanges } from '../api/live'
import { useIntervalFn, useThrottleFn } from '@vueuse/core'

/** What is changed many times in a row is loaded again this often at most, in ms. */
const livePause = 1500
/** Where the stream of changes does not come through, they are asked for this often, in ms. */
const withoutStream = 15_000

/**
 * Loads something now, whenever a source changes, and on demand; with live, whenever somebody changes
 * something (a number is how often at most, in ms); with every, again and again while the page is
 * seen, which is for what is measured rather than changed. Only the newest answer counts.
 */
export function useLoad<T>(
  load: () => Promise<T>,
  options: { on?: WatchSource<unknown>; live?: boolean | number; every?: number } = {},
) {
  const data = shallowRef<T>()
  const refusal = shallowRef<Refusal>()
  const loading = ref(false)
  let newest = 0

  async function reload() {
    const mine = ++newest
    loading.value = true
    try {
      const answer = await load()
      if (mine === newest) {
        data.value = answer
        refusal.value = undefined
      }
    } catch (err) {
      if (mine !== newest) return
      if (!(err instanceof Refusal)) throw err
      refusal.value = err
    } finally {
      if (mine === newest) loading.value = false
    }
  }

  if (options.on) watch(options.on, reload)
  if (options.every) {
    useIntervalFn(() => {
      if (!document.hidden && !loading.value) void reload()
    }, options.every)
  }
  if (options.live) {
    const pause = typeof options.live === 'number' ? options.live : livePause
    const again = useThrottleFn(() => void reload(), pause, true)
    onScopeDispose(onChanges(() => void again()))
    useIntervalFn(() => {
      if (!document.hidden && !loading.value && !connected.value) void reload()
    }, withoutStream)
  }
  void reload()
  return { data, refusal, loading, reload }
}
