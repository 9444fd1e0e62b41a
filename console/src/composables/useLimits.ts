import { shallowRef } from 'vue'
import { api, ask, type Schemas } from '../api/client'

const known = shallowRef<Schemas['LimitList']>()
let asked = false

/** The limits and features there are; the same for everybody, and read once. */
export function useLimits() {
  if (!asked) {
    asked = true
    void ask(api.GET('/api/v1/limits')).then(
      (list) => (known.value = list),
      () => (asked = false),
    )
  }
  return known
}
