import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** Keeps a list's filters in the address, so that it can be bookmarked, sent and gone back to. */
export function useFilters<K extends string>(...names: K[]) {
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
  return filters
}
