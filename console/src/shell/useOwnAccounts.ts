import { computed, shallowRef, watch } from 'vue'
import { api, ask, Refusal, type Schemas } from '../api/client'
import { isCustomer, session } from '../areas/session/state'

const accounts = shallowRef<Schemas['Account'][]>()

watch(
  () => isCustomer.value && `${session.value?.name} ${session.value?.customer_id}`,
  async (customer) => {
    accounts.value = undefined
    if (!customer) return
    try {
      accounts.value = (await ask(api.GET('/api/v1/accounts', { params: { query: { limit: 50 } } }))).accounts ?? []
    } catch (err) {
      if (!(err instanceof Refusal)) throw err // the page says so, too
    }
  },
  { immediate: true },
)

/** A customer's accounts, up to fifty; undefined for others, and until they are known. */
export function useOwnAccounts() {
  return {
    accounts,
    /** The account, when there is just one. */
    only: computed(() => (accounts.value?.length === 1 ? accounts.value[0] : undefined)),
  }
}
