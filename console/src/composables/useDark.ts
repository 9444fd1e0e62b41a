import { useDark as useDarkClass, useToggle } from '@vueuse/core'

// Holding transitions back takes an inline style, which the console's policy does not allow.
const dark = useDarkClass({ storageKey: 'appearance', disableTransition: false })
const toggle = useToggle(dark)

/** Light or dark: what the system prefers until somebody chooses. */
export function useDark() {
  return { dark, toggle: () => toggle() }
}
