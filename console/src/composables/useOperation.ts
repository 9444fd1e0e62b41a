import { onScopeDispose, shallowRef, watch, type Ref } from 'vue'
import { api, ask, Refusal, type Schemas } from '../api/client'

type Operation = Schemas['Operation']

/**
 * Follows an operation until it ends. The browser makes a lost connection
 * again by itself and tells the last event it has seen.
 */
export function useOperation(id: Ref<number | undefined>, finished?: (operation: Operation) => void) {
  const operation = shallowRef<Operation>()
  const refusal = shallowRef<Refusal>()
  let source: EventSource | undefined
  const stop = () => source?.close()

  async function follow(number: number) {
    try {
      operation.value = await ask(api.GET('/api/v1/operations/{operation}', { params: { path: { operation: number } } }))
    } catch (err) {
      if (!(err instanceof Refusal)) throw err
      refusal.value = err
      return
    }
    if (operation.value.finished_at) {
      finished?.(operation.value)
      return
    }
    source = new EventSource(`/api/v1/operations/${number}/progress`)
    source.addEventListener('operation', (event: MessageEvent<string>) => {
      operation.value = JSON.parse(event.data) as Operation
      if (operation.value.finished_at) {
        stop()
        finished?.(operation.value)
      }
    })
  }

  watch(
    id,
    (number) => {
      stop()
      operation.value = undefined
      refusal.value = undefined
      if (number !== undefined) void follow(number)
    },
    { immediate: true },
  )
  onScopeDispose(stop)
  return { operation, refusal }
}
