import { ref, watchEffect } from 'vue'

const kept = localStorage.getItem('appearance')
const dark = ref(kept ? kept === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)

watchEffect(() => document.documentElement.classList.toggle('dark', dark.value))

/** Light or dark: the system's wish until somebody chooses. */
export function useDark() {
  return {
    dark,
    toggle() {
      dark.value = !dark.value
      localStorage.setItem('appearance', dark.value ? 'dark' : 'light')
    },
  }
}
