<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElDialog, ElRadio, ElRadioGroup } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import ProblemNote from '../../parts/ProblemNote.vue'

/** Has a certificate revoked; without a serial number, the one in use. */
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ account: string; domain: string; serial: string }>()
const emit = defineEmits<{ done: [number | undefined] }>()
type Reason = NonNullable<Schemas['Revocation']['reason']>
const reasons: [Reason, string][] = [
  ['unspecified', 'no reason is given'],
  ['key-compromise', 'somebody else may have the key'],
  ['affiliation-changed', 'the organization in it is no longer right'],
  ['superseded', 'another one has taken its place'],
  ['cessation', 'the site is no longer there'],
]
const reason = ref<Reason>('unspecified')
const { refusal, busy, act } = useAct()
watch(open, () => {
  reason.value = 'unspecified'
  refusal.value = undefined
})
const revoke = () =>
  act(async () => {
    const done = await made(
      api.POST('/api/v1/accounts/{account}/domains/{domain}/certificate/revocation', {
        params: { path: { account: props.account, domain: props.domain } },
        body: { reason: reason.value, serial: props.serial || undefined },
      }),
    )
    emit('done', done.operation || undefined)
    open.value = false
  })
</script>

<template>
  <ElDialog v-model="open" title="Have a certificate revoked" width="min(32rem, 94vw)">
    <div class="stack">
      <p v-if="serial">
        Number <code>{{ serial }}</code>, which the site uses no longer.
      </p>
      <p v-else>
        The one that {{ domain }} shows. The next one is ordered at once, with another key; until it is there, visitors
        are warned.
      </p>
      <ElRadioGroup v-model="reason" class="reasons" aria-label="Reason"
        ><ElRadio v-for="[word, means] in reasons" :key="word" :value="word">{{ means }}</ElRadio></ElRadioGroup
      >
      <p class="warn">A revocation cannot be undone.</p>
      <ProblemNote :refusal="refusal" />
    </div>
    <template #footer
      ><ElButton @click="open = false">Cancel</ElButton
      ><ElButton type="primary" :loading="Boolean(busy)" @click="revoke">Revoke</ElButton></template
    >
  </ElDialog>
</template>

<style scoped>
.reasons {
  display: grid;
  justify-items: start;
}
</style>
