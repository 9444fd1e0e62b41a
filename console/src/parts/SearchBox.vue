<script setup lang="ts">
import { computed, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask } from '../api/client'
import { isOperator, may } from '../areas/session/state'
import { useDebounceFn } from '@vueuse/core'

/** Finds any account, domain, customer's name or server, from every page. */
interface Hit {
  to: string
  title: string
  about: string
}

const router = useRouter()
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
  const term = text.value.trim()
  if (!term) {
    hits.value = []
    return
  }
  const [accounts, servers, customers, resellers] = await Promise.all([
    ask(api.GET('/api/v1/accounts', { params: { query: { search: term, limit: 8 } } })),
    may('servers.read') ? ask(api.GET('/api/v1/servers')) : undefined,
    may('customers.change')
      ? ask(api.GET('/api/v1/customers', { params: { query: { search: term, limit: 4 } } }))
      : undefined,
    isOperator.value && may('resellers.read')
      ? ask(api.GET('/api/v1/resellers', { params: { query: { search: term, limit: 3 } } }))
      : undefined,
  ])
  if (mine !== newest) return
  hits.value = [
    ...(servers?.servers ?? [])
      .filter((s) => s.label.includes(term.toLowerCase()) || s.address.includes(term))
      .map((s) => ({ to: `/servers/${s.label}`, title: s.label, about: `server ${s.address}` })),
    ...(accounts.accounts ?? []).map((a) => ({
      to: `/accounts/${a.sign_in_name}`,
      title: a.name,
      about: `${a.sign_in_name} · ${a.customer} · ${a.server}`,
    })),
    ...(customers?.customers ?? []).map((c) => ({
      to: `/customers/${c.id}`,
      title: c.name,
      about: `customer${c.reseller ? ` of ${c.reseller}` : ''}${c.email ? ` · ${c.email}` : ''}`,
    })),
    ...(resellers?.resellers ?? []).map((r) => ({
      to: `/resellers/${r.name}`,
      title: r.title,
      about: `reseller ${r.name}`,
    })),
  ]
  at.value = 0
  open.value = true
}

function go(hit: Hit | undefined) {
  open.value = false
  if (hit) {
    text.value = ''
    hits.value = []
    void router.push(hit.to)
  } else if (text.value.trim()) {
    void router.push({ path: '/accounts', query: { search: text.value.trim() } })
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
      placeholder="Search  /"
      aria-label="Search accounts, domains, customers and servers"
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
    <ul v-show="open && text.trim()" id="hits" role="listbox" aria-label="Found">
      <li
        v-for="(hit, n) in hits"
        :id="`hit-${n}`"
        :key="hit.to"
        role="option"
        :aria-selected="n === at"
        @mousedown.prevent="go(hit)"
        @mousemove="at = n"
      >
        <b>{{ hit.title }}</b> <span class="quiet">{{ hit.about }}</span>
      </li>
      <li v-if="!hits.length" class="quiet" role="option" aria-disabled="true" aria-selected="false">
        Nothing found for “{{ text.trim() }}”
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
  color: var(--on-bar);
  background: rgb(255 255 255 / 9%);
  border: 1px solid rgb(255 255 255 / 22%);
  border-radius: 2px;
}
input::placeholder {
  color: var(--on-bar-2);
  opacity: 1;
}
input:focus {
  background: var(--sheet);
  color: var(--ink);
  outline: 2px solid var(--signal-bar);
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
