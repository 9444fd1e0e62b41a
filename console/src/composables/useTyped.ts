import { ref, watch, type WritableComputedRef } from 'vue'
import { watchDebounced } from '@vueuse/core'

/** A field that follows the keys, and a filter in the address that follows a moment later. */
export function useTyped(filter: WritableComputedRef<string>) {
  const typed = ref(filter.value)
  watch(filter, (now) => {
    if (now !== typed.value.trim()) typed.value = now
  })
  watchDebounced(
    typed,
    (now) => {
      if (filter.value !== now.trim()) filter.value = now.trim()
    },
    { debounce: 200 },
  )
  return typed
}
