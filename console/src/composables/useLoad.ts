import { ref, shallowRef, watch, type WatchSource } from 'vue'
import { Refusal } from '../api/client'
import { useIntervalFn } from '@vueuse/core'

/**
 * Loads something now, whenever a source changes, and on demand; with every,
 * again and again while the page is seen. Only the newest answer counts.
 */
export function useLoad<T>(load: () => Promise<T>, options: { on?: WatchSource<unknown>; every?: number } = {}) {
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
  void reload()
  return { data, refusal, loading, reload }
}
