import { computed, ref, shallowRef } from 'vue'
import type { Schemas } from '../../api/client'
import { settled, speak } from '../../language'

/** Who is signed in; undefined until that is known. */
export const session = shallowRef<Schemas['Session']>()

/** Whether the sign-in is shown, over whatever page there is. */
export const signingIn = ref(false)

/** Whether the person has a right. What is not allowed is not offered; the service refuses it all the same. */
export function may(permission: string): boolean {
  return session.value?.permissions.includes(permission) ?? false
}

/** Whether something has to be done about the sign-in before anything else. */
export const mustFirst = computed(() => (session.value?.must_first.length ?? 0) > 0)

export const isOperator = computed(() => session.value?.role === 'operator')
export const isCustomer = computed(() => session.value?.role === 'customer')

let waiting: Array<() => void> = []

/** Shows the sign-in and waits until somebody has signed in. */
export function signInAgain(): Promise<void> {
  signingIn.value = true
  return new Promise((resolve) => waiting.push(resolve))
}

/** Lets everything go on that waited for the sign-in. Who only comes is spoken to in their language. */
export function signedIn(as: Schemas['Session']) {
  settled()
  if (!session.value) speak(as.language)
  session.value = as
  signingIn.value = false
  for (const go of waiting) go()
  waiting = []
}
