<script setup lang="ts">
import { ref } from 'vue'
import { ElButton } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'
import OfferKit from './OfferKit.vue'
import RegisterKit from './RegisterKit.vue'
import { needsOf, shownOf } from './words'
import { t } from '../../language'

/** The kits of the installation, and which plans offer them. */
type Kit = Schemas['Kit']
const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/kits')), { live: true })
const columns: Column<Kit>[] = [
  { key: 'title', title: t('Kit'), long: true },
  { key: 'version', title: t('Sites get'), text: (k) => k.current ?? t('none') },
  { key: 'needs', title: t('Needs'), wide: true, text: (k) => needsOf(shownOf(k).needs) },
  { key: 'sites', title: t('Sites'), right: true, text: (k) => String(k.versions.reduce((n, v) => n + v.sites, 0)) },
  { key: 'plans', title: t('Offered by'), long: true, text: (k) => k.plans.join(', ') || t('no plan yet') },
  { key: 'acts', title: '', right: true },
]

/** The kit whose plans are being chosen. */
const offering = ref<Kit>()
const registering = ref(false)
async function offered() {
  offering.value = undefined
  await reload()
}
const router = useRouter()
</script>

<template>
  <PageHead :title="$t('Kits')" :about="$t('What sites can begin with: files, a database, settings')">
    <ElButton v-if="may('kits.register')" type="primary" @click="registering = true">{{
      $t('Register a kit…')
    }}</ElButton>
  </PageHead>
  <ProblemNote :refusal="refusal" />
  <DataTable
    v-if="data?.kits.length"
    :id="(k) => k.name"
    :columns="columns"
    :rows="data.kits"
    :to="(k) => `/kits/${k.name}`"
    :caption="$t('Kits')"
  >
    <template #title="{ row }"
      ><b>{{ row.title }}</b>
      <p class="quiet about">{{ row.about }}</p></template
    >
    <template #version="{ row }"
      >{{ row.current ?? $t('none') }}
      <p class="quiet signed">{{ shownOf(row).signer || $t('not signed') }}</p></template
    >
    <template #acts="{ row }"
      ><button
        v-if="may('kits.offer')"
        type="button"
        class="link"
        :aria-label="$t('Choose plans for {name}', { name: row.title })"
        @click.stop="offering = row"
      >
        {{ $t('Choose plans') }}
      </button></template
    >
  </DataTable>
  <p v-else-if="data" class="empty">
    {{
      $t('There is no kit yet. Operators register them, here or with the client: victualler kit register DIRECTORY.')
    }}
  </p>
  <OfferKit :kit="offering" @closed="offering = undefined" @done="offered" />
  <RegisterKit v-model="registering" @done="(k) => router.push(`/kits/${k.name}`)" />
</template>

<style scoped>
.signed {
  margin: 0;
}
.about {
  margin: 0.1rem 0 0;
  min-width: 14rem;
  max-width: 26rem;
  white-space: normal;
}
</style>
