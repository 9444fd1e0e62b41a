import { computed, ref } from 'vue'
import { useLocalStorage, useMediaQuery } from '@vueuse/core'

/** Below this width the rail lies over the page. */
const narrow = useMediaQuery('(max-width: 900px)')
const pinned = useLocalStorage('rail', true)
const over = ref(false)
const closed = useLocalStorage<string[]>('rail-closed-groups', [])

/** Whether the rail and its groups are shown. On wide screens that is kept in the browser. */
export function useRail() {
  return {
    narrow,
    shown: computed(() => (narrow.value ? over.value : pinned.value)),
    toggle() {
      if (narrow.value) over.value = !over.value
      else pinned.value = !pinned.value
    },
    /** Closes the rail where it lies over the page. */
    leave() {
      over.value = false
    },
    isClosed: (group: string) => closed.value.includes(group),
    toggleGroup(group: string) {
      closed.value = closed.value.includes(group) ? closed.value.filter((g) => g !== group) : [...closed.value, group]
    },
  }
}
