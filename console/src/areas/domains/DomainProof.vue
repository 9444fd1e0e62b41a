<script setup lang="ts">
import { computed } from 'vue'
import { ElButton } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import ProblemNote from '../../parts/ProblemNote.vue'
import { ago } from '../../words'
import { isOperator } from '../session/state'

const props = defineProps<{ domain: Schemas['DomainDetail']; may: boolean }>()
const emit = defineEmits<{ started: [operation: number]; asked: [] }>()
const proof = computed(() => props.domain.proof!)
const { refusal, busy, act } = useAct()

const prove = (vouch: boolean) =>
  act(
    async () => {
      try {
        const done = await made(
          api.POST('/api/v1/accounts/{account}/domains/{domain}/proof', {
            params: { path: { account: props.domain.account, domain: props.domain.name } },
            body: { vouch },
          }),
        )
        if (done.operation) emit('started', done.operation)
      } finally {
        emit('asked')
      }
    },
    vouch ? 'vouch' : 'ask',
  )
</script>

<template>
  <section class="proof" aria-labelledby="proof-title">
    <h2 id="proof-title">
      {{ proof.waiting ? $t('Not served yet: show that it is yours') : $t('Nothing shows yet that it is yours') }}
    </h2>
    <p>
      {{
        $t(
          'Set this record where the DNS of {unicode} is hosted, or point the domain here. DNS is asked again automatically.',
          { unicode: domain.unicode },
        )
      }}
    </p>
    <dl>
      <dt>{{ $t('Name') }}</dt>
      <dd>
        <code>{{ proof.record }}</code>
      </dd>
      <dt>{{ $t('Type') }}</dt>
      <dd><code>TXT</code></dd>
      <dt>{{ $t('Text') }}</dt>
      <dd>
        <code>{{ proof.text }}</code>
      </dd>
    </dl>
    <p v-if="proof.asked_at" class="quiet">
      {{ $t('Asked {asked}: {failed}.', { asked: ago(proof.asked_at), failed: proof.failed }) }}
    </p>
    <ProblemNote :refusal="refusal" />
    <div v-if="may" class="acts">
      <ElButton type="primary" :loading="busy === 'ask'" @click="prove(false)">{{ $t('Ask DNS now') }}</ElButton>
      <ElButton v-if="isOperator" :loading="busy === 'vouch'" @click="prove(true)">{{
        $t('Take their word for it')
      }}</ElButton>
    </div>
  </section>
</template>

<style scoped>
.proof {
  margin: 0.6rem 0;
  padding: 0.2rem 0.8rem 0.7rem;
  border-inline-start: 3px solid var(--signal);
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.2rem 0.8rem;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
