import { onScopeDispose, shallowRef, watch, type Ref } from 'vue'
import { api, ask, Refusal, type Schemas } from '../api/client'

type Operation = Schemas['Operation']

/**
 * Follows an operation until it ends. The browser makes a lost connection
 * again by itself and tells the last event it has seen. When another operation
 * is to be followed, or the page is left, nothing of the last one goes on.
 */
export function useOperation(id: Ref<number | undefined>, finished?: (operation: Operation) => void) {
  const operation = shallowRef<Operation>()
  const refusal = shallowRef<Refusal>()
  let stop = () => {}

  function follow(number: number) {
    let source: EventSource | undefined
    let over = false
    stop = () => {
      over = true
      source?.close()
    }
    function tell(now: Operation) {
      operation.value = now
      if (!now.finished_at) return
      stop()
      finished?.(now)
    }
    void (async () => {
      try {
        const now = await ask(api.GET('/api/v1/operations/{operation}', { params: { path: { operation: number } } }))
        if (over) return
        tell(now)
      } catch (err) {
        if (!(err instanceof Refusal)) throw err
        if (!over) refusal.value = err
        return
      }
      if (over) return
      source = new EventSource(`/api/v1/operations/${number}/progress`)
      source.addEventListener('operation', (event: MessageEvent<string>) => {
        if (!over) tell(JSON.parse(event.data) as Operation)
      })
    })()
  }

  watch(
    id,
    (number) => {
      stop()
      operation.value = undefined
      refusal.value = undefined
      if (number !== undefined) follow(number)
    },
    { immediate: true },
  )
  onScopeDispose(() => stop())
  return { operation, refusal }
}
