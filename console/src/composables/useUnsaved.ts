import { onBeforeUnmount, onMounted } from 'vue'
import { onBeforeRouteLeave } from 'vue-router'
import { confirmed } from '../parts/confirm'
import { t } from '../language'

/**
 * Asks before a page is left on which something is typed that has not been saved: by a link, the back
 * button, or closing the window, where the browser asks in its own words. What is returned ends that,
 * for a page that leaves itself once everything is saved.
 */
export function useUnsaved(dirty: () => boolean): () => void {
  let saved = false
  const asks = () => !saved && dirty()
  const closing = (event: BeforeUnloadEvent) => {
    if (asks()) event.preventDefault()
  }
  onMounted(() => window.addEventListener('beforeunload', closing))
  onBeforeUnmount(() => window.removeEventListener('beforeunload', closing))
  onBeforeRouteLeave(async () => !asks() || (await confirmed(t('What you have typed here is not saved.'), t('Leave'))))
  return () => (saved = true)
}
