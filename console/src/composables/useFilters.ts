import { computed, type ComputedRef, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/**
 * Keeps a list's filters in the address, so that it can be bookmarked, sent and gone back to. Filtered says whether
 * any is set, and clearFilters takes all of them out.
 */
export function useFilters<K extends string>(
  ...names: K[]
): Record<K, WritableComputedRef<string>> & { filtered: ComputedRef<boolean>; clearFilters: () => void } {
  const route = useRoute()
  const router = useRouter()
  const filters = {} as Record<K, WritableComputedRef<string>>
  for (const name of names) {
    filters[name] = computed({
      get: () => String(route.query[name] ?? ''),
      // Another filter starts the list anew: the page counts from its beginning.
      set: (value) =>
        void router.replace({
          query: { ...route.query, [name]: value || undefined, ...(name === 'cursor' ? {} : { cursor: undefined }) },
        }),
    })
  }
  const filtered = computed(() => names.some((name) => name !== 'cursor' && filters[name].value))
  return Object.assign(filters, { filtered, clearFilters: () => void router.replace({ query: {} }) })
}
