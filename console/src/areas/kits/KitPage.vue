<script setup lang="ts">
import { computed, ref, watchEffect } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StripFact from '../../parts/StripFact.vue'
import { confirmed } from '../../parts/confirm'
import { amount, dayOf } from '../../words'
import { may } from '../session/state'
import OfferKit from './OfferKit.vue'
import { needsOf, shownOf } from './words'
import { t } from '../../language'

/** A kit with its versions, side by side. */
const props = defineProps<{ kit: string }>()
type Version = Schemas['KitVersion']
const path = computed(() => ({ kit: props.kit }))
const {
  data,
  refusal: missing,
  reload,
} = useLoad(() => ask(api.GET('/api/v1/kits/{kit}', { params: { path: path.value } })), { on: path, live: true })
watchEffect(() => {
  document.title = t('{title} · Victualler', { title: data.value?.title ?? props.kit })
})
const columns: Column<Version>[] = [
  { key: 'version', title: t('Version'), text: (v) => v.version },
  { key: 'state', title: t('State'), text: stateOf },
  { key: 'sites', title: t('Sites'), right: true, wide: true, text: (v) => String(v.sites) },
  { key: 'needs', title: t('Needs'), wide: true, text: (v) => needsOf(v.needs) },
  { key: 'size', title: t('Files'), right: true, wide: true, text: (v) => `${v.files} · ${amount(v.size, 'bytes')}` },
  { key: 'signer', title: t('Signed by'), wide: true, long: true, text: (v) => v.signer || t('not signed') },
  { key: 'added', title: t('Registered'), wide: true, text: (v) => dayOf(v.added_at) },
  { key: 'acts', title: '', right: true },
]
function stateOf(v: Version): string {
  if (v.withdrawn) return t('withdrawn')
  return v.version === data.value?.current ? t('what sites get') : t('can be chosen')
}

const offering = ref<Schemas['Kit']>()
const { refusal, act } = useAct()
const change = (body: Schemas['KitChange']) =>
  act(async () => {
    await ask(api.PATCH('/api/v1/kits/{kit}', { params: { path: path.value }, body }))
    await reload()
  })
async function withdraw(v: Version) {
  const question = t('No other site gets version {version} of {title}. Those that have it keep it.', {
    version: v.version,
    title: data.value!.title,
  })
  if (await confirmed(question, t('Withdraw'))) await change({ withdraw: [v.version] })
}
const remove = (v: Version) =>
  act(async () => {
    if (!(await confirmed(t('Version {version} is removed for good.', { version: v.version }), t('Remove')))) return
    await made(
      api.DELETE('/api/v1/kits/{kit}/versions/{version}', {
        params: { path: { kit: props.kit, version: v.version } },
      }),
    )
    await reload()
  })
async function offered() {
  offering.value = undefined
  await reload()
}
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" to="/kits" :label="$t('All kits')" />
  <template v-if="data">
    <PageHead :title="data.title" :about="data.about">
      <template #above
        ><RouterLink to="/kits">{{ $t('Kits') }}</RouterLink></template
      >
      <ElButton v-if="may('kits.offer')" @click="offering = data">{{ $t('Choose plans…') }}</ElButton>
    </PageHead>
    <FactStrip>
      <StripFact :name="$t('Name')">{{ data.name }}</StripFact>
      <StripFact :name="$t('Sites get')">{{ data.current ?? $t('none: all versions are withdrawn') }}</StripFact>
      <StripFact :name="$t('Offered by')">{{ data.plans.join(', ') || $t('no plan yet') }}</StripFact>
      <StripFact :name="$t('It asks for')">{{
        shownOf(data)
          .asks.map((a) => a.title)
          .join(', ') || $t('nothing')
      }}</StripFact>
    </FactStrip>
    <ProblemNote :refusal="refusal ?? missing" />
    <DataTable :id="(v) => v.version" :columns="columns" :rows="data.versions" :caption="$t('Versions')">
      <template #acts="{ row }">
        <template v-if="may('kits.register')">
          <button
            v-if="row.withdrawn"
            type="button"
            class="link"
            :aria-label="$t('Let sites get {version} again', { version: row.version })"
            @click="change({ reinstate: [row.version] })"
          >
            {{ $t('Reinstate') }}
          </button>
          <button
            v-else
            type="button"
            class="link"
            :aria-label="$t('Withdraw {version}', { version: row.version })"
            @click="withdraw(row)"
          >
            {{ $t('Withdraw') }}
          </button>
          {{ ' ' }}
          <button
            v-if="!row.sites"
            type="button"
            class="link"
            :aria-label="$t('Remove {version}', { version: row.version })"
            @click="remove(row)"
          >
            {{ $t('Remove') }}
          </button>
        </template>
      </template>
    </DataTable>
    <OfferKit :kit="offering" @closed="offering = undefined" @done="offered" />
  </template>
</template>
