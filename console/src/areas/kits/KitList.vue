<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton, ElDialog, ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FormField from '../../parts/FormField.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { refOf } from '../plans/names'
import { may } from '../session/state'
import { needsOf } from './words'
import { t } from '../../language'

/** The kits of the installation, and which plans offer them. */
type Kit = Schemas['Kit']
const { data, refusal, reload } = useLoad(() => ask(api.GET('/api/v1/kits')), { live: true })
const newest = (k: Kit) => k.versions[0]!
const columns: Column<Kit>[] = [
  { key: 'title', title: t('Kit'), long: true },
  { key: 'version', title: t('Newest'), text: (k) => newest(k).version },
  { key: 'needs', title: t('Needs'), wide: true, text: (k) => needsOf(newest(k).needs) },
  { key: 'sites', title: t('Sites'), right: true, text: (k) => String(k.versions.reduce((n, v) => n + v.sites, 0)) },
  { key: 'plans', title: t('Offered by'), long: true, text: (k) => k.plans.join(', ') || t('no plan yet') },
  { key: 'acts', title: '', right: true },
]

/** The kit whose plans are being chosen. */
const offering = ref<Kit>()
const shown = computed({ get: () => !!offering.value, set: (yes) => !yes && (offering.value = undefined) })
const { form, general, error, busy, act, reset } = useForm(() => ({ plans: [] as string[] }), shown)
const plans = ref<string[]>([])
async function offer(k: Kit) {
  const all = await ask(api.GET('/api/v1/plans', { params: { query: { limit: 500 } } }))
  plans.value = all.plans.map((p) => refOf(p))
  offering.value = k
  setTimeout(() => reset({ plans: [...k.plans] }))
}
const save = () =>
  act(async () => {
    await ask(
      api.PATCH('/api/v1/kits/{kit}', { params: { path: { kit: offering.value!.name } }, body: { plans: form.plans } }),
    )
    shown.value = false
    await reload()
  }, 'save')
</script>

<template>
  <PageHead :title="$t('Kits')" :about="$t('What sites can begin with: files, a database, settings')" />
  <ProblemNote :refusal="refusal" />
  <DataTable v-if="data?.kits.length" :id="(k) => k.name" :columns="columns" :rows="data.kits" :caption="$t('Kits')">
    <template #title="{ row }"
      ><b>{{ row.title }}</b>
      <p class="quiet about">{{ row.about }}</p></template
    >
    <template #version="{ row }"
      >{{ newest(row).version }}
      <p class="quiet signed">{{ newest(row).signer || $t('not signed') }}</p></template
    >
    <template #acts="{ row }"
      ><button
        v-if="may('kits.offer')"
        type="button"
        class="link"
        :aria-label="$t('Choose plans for {name}', { name: row.title })"
        @click="offer(row)"
      >
        {{ $t('Choose plans') }}
      </button></template
    >
  </DataTable>
  <p v-else-if="data" class="empty">
    {{ $t('There is no kit yet. Operators register them with the client: victualler kit register DIRECTORY.') }}
  </p>
  <ElDialog
    v-model="shown"
    :title="offering ? $t('Plans that offer {name}', { name: offering.title }) : ''"
    width="min(34rem, 94vw)"
  >
    <form id="offer" class="form" @submit.prevent="save">
      <FormField
        :label="$t('Plans')"
        for="kit-plans"
        :error="error('plans')"
        :hint="$t('Accounts on them can install it. Sites that have it keep it.')"
      >
        <ElSelect id="kit-plans" v-model="form.plans" multiple filterable>
          <ElOption v-for="p in plans" :key="p" :value="p" :label="p" />
        </ElSelect>
      </FormField>
      <ProblemNote :refusal="general" />
    </form>
    <template #footer
      ><ElButton @click="shown = false">{{ $t('Cancel') }}</ElButton
      ><ElButton type="primary" native-type="submit" form="offer" :loading="busy === 'save'">{{
        $t('Save')
      }}</ElButton></template
    >
  </ElDialog>
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
