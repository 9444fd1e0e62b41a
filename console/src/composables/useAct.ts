import { ref, shallowRef } from 'vue'
import { Refusal } from '../api/client'

/** Does something that the service may refuse, one at a time, and keeps the refusal. */
export function useAct() {
  const refusal = shallowRef<Refusal>()
  const busy = ref('')

  async function act(does: () => Promise<unknown>, what = 'busy') {
    busy.value = what
    refusal.value = undefined
    try {
      await does()
    } catch (err) {
      if (!(err instanceof Refusal)) throw err
      refusal.value = err
    } finally {
      busy.value = ''
    }
  }
  return { refusal, busy, act }
}
