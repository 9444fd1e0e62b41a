import { watchEffect } from 'vue'
import { session } from '../areas/session/state'
import { useDark } from './useDark'

/** Gives the console the colours of the reseller's brand, for them and their customers. */
export function useBrand() {
  const { dark } = useDark()
  watchEffect(() => {
    const style = document.documentElement.style
    const brand = session.value?.brand
    const set = (name: string, value: string | undefined) =>
      value ? style.setProperty(name, value) : style.removeProperty(name)
    set('--ink-bar', brand?.bar)
    set('--on-bar', brand?.on_bar)
    set('--on-bar-2', brand?.on_bar)
    const accent = dark.value ? brand?.dark_accent : brand?.accent
    set('--signal', accent)
    set('--signal-bar', accent)
    set('--signal-wash', accent && `color-mix(in srgb, ${accent} 14%, var(--sheet))`)
  })
}
