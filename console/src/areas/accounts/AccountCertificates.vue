<script setup lang="ts">
import { api, ask } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import ProblemNote from '../../parts/ProblemNote.vue'
import CertificateTable from '../certificates/CertificateTable.vue'
import { useAccount } from './useAccount'

/** Until when the certificates of an account are valid, and what keeps one from being renewed. */
const { name, changed } = useAccount()
const { data, refusal } = useLoad(
  () => ask(api.GET('/api/v1/certificates', { params: { query: { account: name.value, limit: 200 } } })),
  { on: () => `${name.value} ${changed.value}`, live: true },
)
</script>

<template>
  <div class="titled">
    <h2>{{ $t('Certificates') }}</h2>
  </div>
  <ProblemNote :refusal="refusal" />
  <CertificateTable :certificates="data?.certificates" without-account>
    <template #empty
      ><div class="empty">
        <h2>{{ $t('No site yet') }}</h2>
        <p>{{ $t('Each site has a certificate from its first second on.') }}</p>
      </div></template
    >
  </CertificateTable>
</template>
