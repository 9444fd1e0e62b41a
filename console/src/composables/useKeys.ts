import { useEventListener } from '@vueuse/core'

/** True where a key press is text that somebody types. */
function typing(event: KeyboardEvent): boolean {
  const at = event.target as HTMLElement
  return at.isContentEditable || ['INPUT', 'TEXTAREA', 'SELECT'].includes(at.tagName)
}

/** True while a dialog is shown; one that was closed stays in the page, unseen. */
function inDialog(): boolean {
  return [...document.querySelectorAll('[role="dialog"]')].some((dialog) => dialog.getClientRects().length > 0)
}

/** Calls a function when its key is pressed, outside of fields and dialogs. */
export function useKeys(keys: Record<string, (event: KeyboardEvent) => void>) {
  const pressed = (event: KeyboardEvent) => {
    if (event.defaultPrevented || event.ctrlKey || event.metaKey || event.altKey || typing(event)) return
    if (inDialog()) return
    keys[event.key]?.(event)
  }
  useEventListener(window, 'keydown', pressed)
}
