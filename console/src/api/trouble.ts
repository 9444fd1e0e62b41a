import type { App } from 'vue'
import type { Router } from 'vue-router'
import { shallowRef } from 'vue'
import { Refusal } from './client'
import { t } from '../language'

/**
 * A refusal that no part of the page has a place for, such as a service that
 * cannot be reached while the page is being built. App.vue shows it.
 */
export const trouble = shallowRef<Refusal>()

function take(err: unknown): boolean {
  if (err instanceof Refusal) trouble.value = err
  return err instanceof Refusal
}

/** Lets nothing that was refused go unseen; what is not a refusal is a fault of ours and stays one. */
export function watchForTrouble(app: App, router: Router) {
  app.config.errorHandler = (err) => {
    if (!take(err)) console.error(err)
  }
  window.addEventListener('unhandledrejection', (event) => {
    if (take(event.reason)) event.preventDefault()
  })
  router.onError((_err, to) => {
    trouble.value = new Refusal({
      type: 'unreachable',
      title: t('The page could not be loaded'),
      detail: t('The service does not answer, or was updated since this page was opened. Reload {fullPath}.', {
        fullPath: to.fullPath,
      }),
      status: 0,
    })
  })
  router.afterEach((_to, _from, failure) => {
    if (!failure) trouble.value = undefined
  })
}
