import { ref, watch, type WritableComputedRef } from 'vue'

/** A field that follows the keys, and a filter in the address that follows a moment later. */
export function useTyped(filter: WritableComputedRef<string>) {
  const typed = ref(filter.value)
  let timer: ReturnType<typeof setTimeout> | undefined
  watch(filter, (now) => {
    if (now !== typed.value.trim()) typed.value = now
  })
  watch(typed, (now) => {
    clearTimeout(timer)
    timer = setTimeout(() => {
      if (filter.value !== now.trim()) filter.value = now.trim()
    }, 200)
  })
  return typed
}
