<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import MailFindings from '../../parts/MailFindings.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

/** What others see of a domain's mail before they take a message. */
const props = defineProps<{ account: string; domains: string[] }>()
const domain = ref(props.domains[0] ?? '')
const found = ref<Schemas['MailRehearsal']>()
const { refusal, busy, act } = useAct()
watch(domain, () => (found.value = undefined))
const look = () =>
  act(async () => {
    found.value = await ask(
      api.GET('/api/v1/accounts/{account}/mail-rehearsal', {
        params: { path: { account: props.account }, query: { domain: domain.value } },
      }),
    )
  })
</script>

<template>
  <section class="rehearsal">
    <div class="titled">
      <h2>{{ $t('Would others take it?') }}</h2>
      <ElSelect v-if="domains.length > 1" v-model="domain" :aria-label="$t('Domain')" class="which"
        ><ElOption v-for="d in domains" :key="d" :value="d" :label="d"
      /></ElSelect>
      <ElButton :loading="!!busy" @click="look">{{ $t('Look at {domain}', { domain }) }}</ElButton>
    </div>
    <ProblemNote :refusal="refusal" />
    <MailFindings v-if="found" :findings="found.findings" />
    <p v-else class="quiet">
      {{ $t('Who takes its mail, who may send it, its signatures, and the names and certificate of its server.') }}
    </p>
  </section>
</template>

<style scoped>
.rehearsal {
  margin-block-start: 2rem;
}
.rehearsal p {
  margin-block: 0.2rem 0;
}
.which {
  width: 16rem;
}
</style>
