import { computed, ref } from 'vue'
import { useLocalStorage } from '@vueuse/core'

interface Chosen {
  key: string
  fixed?: boolean
}

/**
 * The columns of a table that are shown: all but those that somebody has left out, which is kept in the
 * browser under the table's name. Without a name nothing can be left out.
 */
export function useColumns<C extends Chosen>(name: () => string | undefined, columns: () => C[]) {
  const table = name()
  const hidden = table ? useLocalStorage<string[]>(`columns-${table}`, []) : ref<string[]>([])
  return {
    hidden,
    shown: computed(() => columns().filter((c) => c.fixed || !hidden.value.includes(c.key))),
    setHidden: (keys: string[]) => (hidden.value = keys),
  }
}
