<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElDialog, ElRadio, ElRadioGroup } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import ProblemNote from '../../parts/ProblemNote.vue'
import { t } from '../../language'

/** Has a certificate revoked; without a serial number, the one in use. */
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ account: string; domain: string; serial: string }>()
const emit = defineEmits<{ done: [number | undefined] }>()
type Reason = NonNullable<Schemas['Revocation']['reason']>
const reasons: [Reason, string][] = [
  ['unspecified', t('no reason is given')],
  ['key-compromise', t('somebody else may have the key')],
  ['affiliation-changed', t('the organization in it is no longer right')],
  ['superseded', t('it was replaced by another one')],
  ['cessation', t('the site is no longer there')],
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
  <ElDialog v-model="open" :title="$t('Have a certificate revoked')" width="min(32rem, 94vw)">
    <div class="stack">
      <p v-if="serial">
        <i18n-t keypath="Number {serial}, which the site uses no longer." scope="global" tag="span"
          ><template #serial
            ><code>{{ serial }}</code></template
          ></i18n-t
        >
      </p>
      <p v-else>
        {{
          $t(
            'The one that {domain} shows. The next one is ordered at once, with another key; until it is there, visitors are warned.',
            { domain },
          )
        }}
      </p>
      <ElRadioGroup v-model="reason" class="reasons" :aria-label="$t('Reason')"
        ><ElRadio v-for="[word, means] in reasons" :key="word" :value="word">{{ means }}</ElRadio></ElRadioGroup
      >
      <p class="warn">{{ $t('A revocation cannot be undone.') }}</p>
      <ProblemNote :refusal="refusal" />
    </div>
    <template #footer
      ><ElButton @click="open = false">{{ $t('Cancel') }}</ElButton
      ><ElButton type="primary" :loading="Boolean(busy)" @click="revoke">{{ $t('Revoke') }}</ElButton></template
    >
  </ElDialog>
</template>

<style scoped>
.reasons {
  display: grid;
  justify-items: start;
}
</style>
