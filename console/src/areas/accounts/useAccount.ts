import { inject, provide, ref, watchEffect, type InjectionKey } from 'vue'
import { computed, type Ref } from 'vue'
import { api, ask, type Schemas } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'

/** The account that a page is about, shared by its sections. */
export interface OpenedAccount {
  /** As it is in the address: its sign-in name or, once closed, its number. */
  name: Ref<string>
  data: Readonly<Ref<Schemas['AccountDetail'] | undefined>>
  /** It has not been closed, nor is it being closed. */
  open: Readonly<Ref<boolean>>
  /** Counts up with everything that is to be loaded again. */
  changed: Readonly<Ref<number>>
  /** Loads the account again, and follows the operation of what was done, if there is one. */
  after: (operation?: number) => void
}

const key: InjectionKey<OpenedAccount> = Symbol('account')

/** Loads an account for the page and its sections. */
export function provideAccount(name: Ref<string>) {
  const path = computed(() => ({ account: name.value }))
  const { data, refusal, reload } = useLoad(
    () => ask(api.GET('/api/v1/accounts/{account}', { params: { path: path.value } })),
    { on: path, live: true, every: 60_000 },
  )
  const changed = ref(0)
  const started = ref<number>()
  const loadAgain = () => {
    void reload()
    changed.value++
  }
  const { operation } = useOperation(started, loadAgain)
  const opened: OpenedAccount = {
    name,
    data,
    open: computed(() => data.value !== undefined && ['active', 'suspended', 'opening'].includes(data.value.state)),
    changed,
    after(number) {
      if (number) started.value = number
      loadAgain()
    },
  }
  provide(key, opened)
  watchEffect(() => {
    if (data.value) document.title = `${data.value.name} · Victualler`
  })
  return { ...opened, refusal, operation }
}

/** The account of the page that a section is on. */
export function useAccount(): OpenedAccount {
  const opened = inject(key)
  if (!opened) throw new Error('no account: this is a part of AccountFrame')
  return opened
}
