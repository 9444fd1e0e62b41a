<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import type { Schemas } from '../../api/client'
import FormField from '../../parts/FormField.vue'
import StateMark from '../../parts/StateMark.vue'
import { actOn, actions, type ActionName, type Outcome } from './many'

/** Does the same with several accounts, after showing which: a line for each with what became of it. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ action: ActionName; accounts: Schemas['Account'][] }>()
const emit = defineEmits<{ done: [] }>()

const why = ref('')
const typed = ref('')
const running = ref(false)
const outcomes = reactive(new Map<number, Outcome>())
const action = computed(() => actions[props.action])
const touched = computed(() => props.accounts.filter(action.value.fits))
const ready = computed(
  () =>
    touched.value.length > 0 &&
    (!action.value.asksWhy || why.value.trim()) &&
    (!action.value.final || typed.value === String(touched.value.length)),
)
const over = computed(() => outcomes.size > 0 && !running.value)
const failed = computed(() => [...outcomes.values()].filter((o) => o.state === 'failed').length)
let stop: AbortController | undefined

watch(shown, (on) => {
  stop?.abort()
  if (!on) return
  why.value = ''
  typed.value = ''
  outcomes.clear()
})

async function run() {
  stop = new AbortController()
  running.value = true
  const accounts = touched.value
  await actOn(
    props.action,
    accounts,
    why.value.trim(),
    (account, outcome) => outcomes.set(account, outcome),
    stop.signal,
  )
  running.value = false
  emit('done')
}
</script>

<template>
  <ElDialog
    v-model="shown"
    :title="$t('{action}: {n} account | {action}: {n} accounts', { action: action.title, n: touched.length })"
    :close-on-click-modal="false"
    width="min(40rem, 94vw)"
  >
    <form id="act-on-accounts" class="stack" @submit.prevent="run">
      <p v-if="action.about">{{ action.about }}</p>
      <p v-if="touched.length < accounts.length" class="quiet">
        {{
          $t('Left out: {n} account that is selected. {leaves} | Left out: {n} accounts that are selected. {leaves}', {
            n: accounts.length - touched.length,
            leaves: action.leaves,
          })
        }}
      </p>
      <FormField v-if="action.asksWhy" :label="$t('Reason')" for="many-why" :hint="$t('The customers are told')"
        ><ElInput id="many-why" v-model="why" maxlength="500" :disabled="running || over"
      /></FormField>
      <FormField
        v-if="action.final && !over"
        :label="$t('Type {touched}, the number of accounts, to confirm', { touched: touched.length })"
        for="many-number"
        ><ElInput id="many-number" v-model="typed" autocomplete="off" inputmode="numeric"
      /></FormField>
      <ul class="lines">
        <li v-for="a in touched" :key="a.id">
          <b>{{ a.name }}</b> <span class="quiet">{{ a.sign_in_name }}, {{ a.customer }}</span>
          <StateMark v-if="outcomes.get(a.id)" :state="outcomes.get(a.id)!.state" />
          <div v-if="outcomes.get(a.id)?.why" class="warn">{{ outcomes.get(a.id)!.why }}</div>
        </li>
      </ul>
      <p v-if="over" role="status">
        {{ $t('{n} account done. | {n} accounts done.', { n: outcomes.size - failed }) }}
        <template v-if="failed">{{ $t('{n} failed; nothing was changed there.', { n: failed }) }}</template>
      </p>
    </form>
    <template #footer>
      <ElButton @click="shown = false">{{ over ? $t('Close') : $t('Cancel') }}</ElButton>
      <ElButton
        v-if="!over"
        type="primary"
        native-type="submit"
        form="act-on-accounts"
        :disabled="!ready"
        :loading="running"
        >{{ action.title }}</ElButton
      >
    </template>
  </ElDialog>
</template>

<style scoped>
.lines {
  max-height: 45vh;
  padding: 0;
  overflow: auto;
  list-style: none;
}
li {
  display: grid;
  grid-template-columns: minmax(0, max-content) minmax(0, 1fr) max-content;
  gap: 0 0.6rem;
  padding: 0.2rem 0;
  overflow-wrap: anywhere;
}
li div {
  grid-column: 1 / -1;
}
</style>
