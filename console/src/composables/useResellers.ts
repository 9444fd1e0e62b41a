import { computed } from 'vue'
import { api, ask } from '../api/client'
import { isOperator, may } from '../areas/session/state'
import { useLoad } from './useLoad'

/** Whether there is any reseller among whom to choose; where there is none, nothing of them is shown. */
export function useResellers() {
  const { data } = useLoad(async () =>
    isOperator.value && may('resellers.read')
      ? ask(api.GET('/api/v1/resellers', { params: { query: { limit: 1 } } }))
      : undefined,
  )
  return computed(() => Boolean(data.value?.resellers.length))
}
