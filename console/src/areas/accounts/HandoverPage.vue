<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, made } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'

/** The handover sheet: for reading, printing and mailing. No password is ever on it. */
const props = defineProps<{ account: string }>()
const path = computed(() => ({ account: props.account }))
const { data, refusal: missing } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/handover', { params: { path: path.value } })),
  { on: path },
)
const sent = ref('')
const { refusal, busy, act } = useAct()
const mail = () =>
  act(async () => {
    sent.value =
      (await made(api.POST('/api/v1/accounts/{account}/handover/mail', { params: { path: path.value } }))).to ?? ''
  })
const print = () => window.print()
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" :to="`/accounts/${account}`" :label="$t('The account')" />
  <template v-if="data">
    <div class="unprinted">
      <PageHead
        :title="$t('Handover sheet')"
        :about="
          data.to
            ? $t('For {customer}, {address}', { customer: data.customer, address: data.to })
            : $t('For {customer}, who has no mail address', { customer: data.customer })
        "
      >
        <template #above
          ><RouterLink :to="`/accounts/${account}`">{{ data.domains[0] }}</RouterLink></template
        >
        <ElButton @click="print">{{ $t('Print') }}</ElButton>
        <ElButton
          v-if="may('accounts.change')"
          type="primary"
          :disabled="!data.to"
          :loading="Boolean(busy)"
          @click="mail"
          >{{ $t('Send by mail') }}</ElButton
        >
      </PageHead>
      <ProblemNote :refusal="refusal" />
      <p v-if="sent" role="status">{{ $t('● On its way to {sent}', { sent }) }}</p>
    </div>
    <article class="sheet" :lang="data.language">
      <p class="from">{{ data.from }}</p>
      <pre>{{ data.text }}</pre>
      <p v-if="data.footer" class="quiet">{{ data.footer }}</p>
    </article>
  </template>
</template>

<style scoped>
.sheet {
  max-width: 46rem;
  padding: 1.4rem 1.8rem;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-top: 4px solid var(--signal);
}
.from {
  margin: 0 0 0.8rem;
  font: 600 1.05rem var(--serif);
}
pre {
  margin: 0;
  overflow-x: auto;
  font: 13px/1.6 var(--mono);
}
</style>
