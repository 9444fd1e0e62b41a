import { computed, onBeforeMount, onScopeDispose, ref, shallowRef, watch, type WatchSource } from 'vue'
import { Refusal } from '../api/client'
import { connected, onChanges } from '../api/live'
import { useIntervalFn, useThrottleFn } from '@vueuse/core'

/** What is changed many times in a row is loaded again this often at most, in ms. */
const livePause = 1500
/** Where the stream of changes does not come through, they are asked for this often, in ms. */
const withoutStream = 15_000

/** What tells whether a record was changed: its version, or all of it where it has none. */
const state = (record: unknown) => (record as { version?: number } | undefined)?.version ?? JSON.stringify(record)

/**
 * Loads something now, whenever a source changes, and on demand; with live, whenever somebody changes
 * something (a number is how often at most, in ms); with every, again and again while the page is
 * seen, which is for what is measured rather than changed. Only the newest answer counts.
 *
 * What a form is about is not replaced while something is typed into it (editing), so that the version
 * that is sent is that of what the person saw. The latest answer is pending until they ask for it or
 * nothing is typed any longer; outdated tells that somebody else has changed the record meanwhile.
 */
export function useLoad<T>(
  load: () => Promise<T>,
  options: {
    on?: WatchSource<unknown>
    live?: boolean | number
    every?: number
    editing?: () => boolean
  } = {},
) {
  const data = shallowRef<T>()
  const pending = shallowRef<T>()
  const outdated = computed(() => pending.value !== undefined && state(pending.value) !== state(data.value))
  const refusal = shallowRef<Refusal>()
  const loading = ref(false)
  let newest = 0
  /** A reload has not been answered yet, so the next answer is shown, whichever request it is of. */
  let showNext = false

  async function read() {
    const mine = ++newest
    loading.value = true
    try {
      const answer = await load()
      if (mine !== newest) return
      show(answer)
      refusal.value = undefined
    } catch (err) {
      if (mine !== newest) return
      if (!(err instanceof Refusal)) throw err
      refusal.value = err
      // What is no longer there is not shown as if it were.
      if (err.problem.status === 404) data.value = pending.value = undefined
    } finally {
      if (mine === newest) loading.value = false
    }
  }

  function show(answer: T) {
    const same = !showNext && JSON.stringify(answer) === JSON.stringify(data.value)
    const typing = !showNext && data.value !== undefined && options.editing?.()
    showNext = false
    pending.value = typing && !same ? answer : undefined
    if (!typing && !same) data.value = answer
  }

  /** Loads it again, and shows it whatever is typed: after what the person has done themselves. */
  const reload = () => {
    showNext = true
    return read()
  }
  /** Loads it again because something may have changed: the same answer is not drawn anew. */
  const refresh = read
  function showLatest() {
    if (pending.value === undefined) return
    data.value = pending.value
    pending.value = undefined
  }

  if (options.on) watch(options.on, reload)
  if (options.editing) {
    // The form is set up after what it is about.
    onBeforeMount(() => watch(options.editing!, (now) => !now && showLatest()))
  }
  if (options.every) {
    useIntervalFn(() => {
      if (!document.hidden && !loading.value) void refresh()
    }, options.every)
  }
  if (options.live) {
    const pause = typeof options.live === 'number' ? options.live : livePause
    const again = useThrottleFn(() => void refresh(), pause, true)
    onScopeDispose(onChanges(() => void again()))
    useIntervalFn(() => {
      if (!document.hidden && !loading.value && !connected.value) void refresh()
    }, withoutStream)
  }
  void reload()
  return { data, outdated, refusal, loading, reload, refresh, showLatest }
}
