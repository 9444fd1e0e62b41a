<script setup lang="ts">
import { computed, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'
import { useDebounceFn } from '@vueuse/core'
import { api, ask } from '../api/client'
import { isOperator, may } from '../areas/session/state'
import { actionsOn, places, readLine, type Hit } from './search'
import { useAreas } from './useAreas'
import { t } from '../language'
import { named } from '../codes'

/** Finds any account, domain, customer, reseller, server, zone or area from every page, and begins what can be done. */
const router = useRouter()
const { shown: areas } = useAreas()
const box = useTemplateRef<HTMLInputElement>('box')
const text = ref('')
const hits = ref<Hit[]>([])
const at = ref(0)
const open = ref(false)
let newest = 0

defineExpose({ focus: () => box.value?.select() })

const typed = useDebounceFn(search, 120)

async function search() {
  const mine = ++newest
  const { verb, about: term } = readLine(text.value)
  const here = places(text.value, areas.value, may)
  if (!term) {
    hits.value = here
    at.value = 0
    open.value = here.length > 0
    return
  }
  const onlyAccounts = verb !== undefined && verb !== 'go'
  const [accounts, servers, customers, resellers, zones] = await Promise.all([
    ask(api.GET('/api/v1/accounts', { params: { query: { search: term, limit: 8 } } })),
    may('servers.read') && !onlyAccounts ? ask(api.GET('/api/v1/servers')) : undefined,
    may('customers.change') && !onlyAccounts
      ? ask(api.GET('/api/v1/customers', { params: { query: { search: term, limit: 4 } } }))
      : undefined,
    isOperator.value && may('resellers.read') && !onlyAccounts
      ? ask(api.GET('/api/v1/resellers', { params: { query: { search: term, limit: 3 } } }))
      : undefined,
    onlyAccounts ? undefined : ask(api.GET('/api/v1/zones', { params: { query: { search: term, limit: 3 } } })),
  ])
  if (mine !== newest) return
  const found = accounts.accounts ?? []
  hits.value = [
    ...(verb ? actionsOn(verb, found, may) : []),
    ...here,
    ...(servers?.servers ?? [])
      .filter((s) => s.label.includes(term.toLowerCase()) || s.address.includes(term))
      .map((s) => ({
        to: `/servers/${s.label}`,
        title: s.label,
        about: t('server {address}', { address: s.address }),
      })),
    ...(onlyAccounts
      ? []
      : found.map((a) => ({
          to: `/accounts/${a.sign_in_name}`,
          title: a.name,
          about: `${a.sign_in_name} · ${a.customer} · ${a.server}${a.state === 'active' ? '' : ` · ${named(a.state)}`}`,
        }))),
    ...(customers?.customers ?? []).map((c) => ({
      to: `/customers/${c.id}`,
      title: c.name,
      about: [c.reseller ? t('customer of {reseller}', { reseller: c.reseller }) : t('customer'), c.email]
        .filter(Boolean)
        .join(' · '),
    })),
    ...(resellers?.resellers ?? []).map((r) => ({
      to: `/resellers/${r.name}`,
      title: r.title,
      about: t('reseller {name}', { name: r.name }),
    })),
    ...(zones?.zones ?? []).map((z) => ({
      to: `/zones/${z.name}`,
      title: z.unicode,
      about: t('zone of {account}', { account: z.account }),
    })),
  ]
  at.value = 0
  open.value = true
}

function go(hit: Hit | undefined) {
  open.value = false
  const { verb, about } = readLine(text.value)
  if (hit) {
    text.value = ''
    hits.value = []
    void router.push(hit.to)
  } else if (about && !verb) {
    void router.push({ path: '/accounts', query: { search: about } })
  }
  box.value?.blur()
}

const current = computed(() => (open.value && hits.value.length ? `hit-${at.value}` : undefined))
</script>

<template>
  <div class="search" role="search">
    <input
      ref="box"
      v-model="text"
      type="search"
      :placeholder="may('accounts.suspend') ? $t('Search, or do: suspend bakery') + '  /' : $t('Search') + '  /'"
      :aria-label="$t('Search everything, or begin what is to be done')"
      role="combobox"
      aria-controls="hits"
      :aria-expanded="open && hits.length > 0"
      :aria-activedescendant="current"
      autocomplete="off"
      spellcheck="false"
      @input="typed"
      @focus="open = hits.length > 0"
      @blur="open = false"
      @keydown.down.prevent="at = Math.min(at + 1, hits.length - 1)"
      @keydown.up.prevent="at = Math.max(at - 1, 0)"
      @keydown.enter.prevent="go(open ? hits[at] : undefined)"
      @keydown.esc="box?.blur()"
    />
    <ul v-show="open && text.trim()" id="hits" role="listbox" :aria-label="$t('Found')">
      <li
        v-for="(hit, n) in hits"
        :id="`hit-${n}`"
        :key="hit.to + hit.title"
        role="option"
        :aria-selected="n === at"
        @mousedown.prevent="go(hit)"
        @mousemove="at = n"
      >
        <b>{{ hit.title }}</b> <span class="quiet">{{ hit.about }}</span>
      </li>
      <li v-if="!hits.length" class="quiet" role="option" aria-disabled="true" aria-selected="false">
        {{ $t('Nothing found for “{trim}”', { trim: text.trim() }) }}
      </li>
    </ul>
  </div>
</template>

<style scoped>
.search {
  position: relative;
}
input {
  width: 100%;
  height: 30px;
  padding: 0 0.7rem;
  font: inherit;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 2px;
}
input::placeholder {
  color: var(--ink-2);
  opacity: 1;
}
input:focus {
  outline: 2px solid var(--signal);
  outline-offset: 0;
}
ul {
  position: absolute;
  inset: calc(100% + 3px) 0 auto;
  z-index: 40;
  margin: 0;
  padding: 0.2rem 0;
  list-style: none;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--line);
  box-shadow: 0 6px 18px rgb(0 0 0 / 18%);
}
li {
  padding: 0.35rem 0.7rem;
  cursor: pointer;
  overflow-wrap: anywhere;
}
li[aria-selected='true'] {
  background: var(--signal-wash);
}
</style>
