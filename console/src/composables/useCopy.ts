import { ref, watch } from 'vue'
import { useClipboard } from '@vueuse/core'

/** Copies a text that is shown once, and remembers for as long as it is the same that it has been copied. */
export function useCopy(text: () => string) {
  const { copy: write } = useClipboard({ legacy: true })
  const copied = ref(false)
  watch(text, () => (copied.value = false))
  async function copy() {
    await write(text())
    copied.value = true
  }
  return { copied, copy }
}
