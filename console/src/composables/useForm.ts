import { computed, nextTick, reactive, shallowRef, watch, type Ref } from 'vue'
import type { Schemas } from '../api/client'
import { useAct } from './useAct'
import { useUnsaved } from './useUnsaved'

/**
 * A form: what is typed, whether that differs from what it began with, what the service would do about
 * it, and what it refuses, field by field. A preview is of what is typed now: it goes when something
 * else is typed. Requests for the same content have the same Idempotency-Key, so that trying again
 * does nothing twice (see api/client.ts). With shown, the form begins anew when its dialog opens or
 * closes, so that no password stays in it; and the page asks before it is left with something typed in it.
 */
export function useForm<F extends object>(empty: () => F, shown?: Ref<boolean>) {
  const form = reactive(empty()) as F
  const text = () => JSON.stringify(form)
  const began = shallowRef(text())
  const dirty = computed(() => text() !== began.value)
  const preview = shallowRef<Schemas['Preview']>()
  const { refusal, busy, act } = useAct()

  /** Begins anew, with nothing typed, or with what is on record; what is undefined there is empty. */
  function reset(to: Partial<F> = {}) {
    const given = Object.entries(to).filter(([, value]) => value !== undefined)
    Object.assign(form, empty(), Object.fromEntries(given))
    began.value = text()
    preview.value = undefined
    refusal.value = undefined
  }
  /** Opens the dialog, with what is on record. */
  async function openWith(to: Partial<F> = {}) {
    if (shown) shown.value = true
    await nextTick() // it begins anew when the dialog opens
    reset(to)
  }
  if (shown) {
    watch(shown, () => reset())
    useUnsaved(() => shown.value && dirty.value)
  }
  watch(text, () => (preview.value = undefined))

  /** The fields beside which the form shows what is wrong with them. */
  const beside = new Set<string>()
  /** What is wrong with a field, to be shown beside it. */
  function error(field: string) {
    beside.add(field)
    return refusal.value?.field(field)
  }
  /** A refusal that is not shown beside fields. */
  const general = computed(() => {
    const errors = refusal.value?.problem.errors
    return errors?.length && errors.every((e) => beside.has(e.name)) ? undefined : refusal.value
  })

  /** Asks what would be done. */
  const loadPreview = (foresee: () => Promise<Schemas['Preview']>) =>
    act(async () => {
      preview.value = await foresee()
    }, 'preview')

  return { form, dirty, preview, refusal, general, error, busy, act, loadPreview, reset, openWith }
}
