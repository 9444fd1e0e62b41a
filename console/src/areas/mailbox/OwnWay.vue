<script setup lang="ts">
import { shallowRef } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import MailFindings from '../../parts/MailFindings.vue'
import MailPath from '../../parts/MailPath.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

/** What would become of a message to the holder, and whether others would take theirs. */
const path = shallowRef<Schemas['MailPath']>()
const found = shallowRef<Schemas['MailRehearsal']>()
const { refusal, busy, act } = useAct()
const trace = () => act(async () => (path.value = await ask(api.GET('/api/v1/mailbox/path'))), 'trace')
const rehearse = () => act(async () => (found.value = await ask(api.GET('/api/v1/mailbox/rehearsal'))), 'rehearse')
</script>

<template>
  <p class="acts">
    <ElButton :loading="busy === 'trace'" @click="trace">{{ $t('Where does a message to me go?') }}</ElButton>
    <ElButton :loading="busy === 'rehearse'" @click="rehearse">{{ $t('Would others take my messages?') }}</ElButton>
  </p>
  <ProblemNote :refusal="refusal" />
  <div v-if="path" role="status" class="path"><MailPath :path="path" /></div>
  <template v-if="found">
    <MailFindings :findings="found.findings" />
    <p v-if="!found.right" class="quiet">
      {{ $t('Whoever looks after {domain} can put right what is wrong.', { domain: found.domain }) }}
    </p>
  </template>
</template>

<style scoped>
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
  margin-block: 0 0.6rem;
}
.path {
  margin-block-end: 0.8rem;
}
.acts .el-button {
  margin: 0;
}
</style>
