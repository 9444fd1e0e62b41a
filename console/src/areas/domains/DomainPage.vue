<script setup lang="ts">
import { computed, ref, shallowRef, watch, watchEffect, type ComputedRef } from 'vue'
import { ElButton, ElCheckbox, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { useUnsaved } from '../../composables/useUnsaved'
import FactStrip from '../../parts/FactStrip.vue'
import FormField from '../../parts/FormField.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import SettingFields from '../../parts/SettingFields.vue'
import StepList from '../../parts/StepList.vue'
import StripFact from '../../parts/StripFact.vue'
import WarningList from '../../parts/WarningList.vue'
import { refOf } from '../plans/names'
import { isOperator, may } from '../session/state'
import DomainProof from './DomainProof.vue'
import FolderList from './FolderList.vue'
import ServingFields from './ServingFields.vue'
import SiteLog from './SiteLog.vue'
import TraceNote from './TraceNote.vue'
import { fresh, inWords, present, told, type Serving } from './serving'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'
import { named } from '../../codes'

const props = defineProps<{ account: string; domain: string }>()
const router = useRouter()
const path = computed(() => ({ account: props.account, domain: props.domain }))
const {
  data,
  outdated,
  refusal: missing,
  reload,
  refresh,
  showLatest,
} = useLoad(() => ask(api.GET('/api/v1/accounts/{account}/domains/{domain}', { params: { path: path.value } })), {
  on: path,
  live: true,
  editing: () => mayChange.value && changes.value > 0,
})
const { data: whole } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}', { params: { path: { account: props.account } } })),
  { on: () => props.account, live: true },
)
const { data: templates } = useLoad(async () =>
  may('templates.read') ? await ask(api.GET('/api/v1/templates')) : undefined,
)

const form = ref<Serving>(fresh())
const template = ref('')
const move = ref(false)
const accepted = ref(false)
const settings = shallowRef<Record<string, unknown>>({})
const sound = ref(true)
const preview = shallowRef<Schemas['Preview']>()
const { refusal, busy, act } = useAct()
const started = ref<number>()
const { operation } = useOperation(started, () => void refresh())

watch(data, (d) => {
  if (!d) return
  form.value = present(d)
  template.value = d.template ?? ''
  move.value = accepted.value = false
})
watchEffect(() => {
  if (data.value) document.title = `${data.value.unicode} · Victualler`
})
watch([form, template, move, settings], () => (preview.value = undefined), { deep: true })

const mayChange = computed(() => may('domains.change'))
const saved = useUnsaved(() => mayChange.value && changes.value > 0)
const sites = computed(() =>
  (whole.value?.domains ?? [])
    .filter((d) => d.served_as === 'site' && d.name !== data.value?.name)
    .map((d) => d.unicode),
)
const fixed = computed<Record<string, string>>(() => {
  const raw = whole.value?.features.find((f) => f.feature === 'raw_directives')
  return (!isOperator.value && raw && !raw.on ? { raw: t('needs the feature raw_directives') } : {}) as Record<
    string,
    string
  >
})
const rooted = computed(
  () =>
    data.value?.served_as === 'site' && form.value.served_as === 'site' && form.value.root.trim() !== data.value.root,
)
const servingChanged = computed(() => {
  const d = data.value
  if (!d) return false
  return JSON.stringify(told(present(d))) !== JSON.stringify(told(form.value))
})
const body = computed<Schemas['DomainChange']>(() => ({
  ...(servingChanged.value ? told(form.value) : {}),
  move_files: (rooted.value && move.value) || undefined,
  template: template.value !== (data.value?.template ?? '') ? template.value : undefined,
  settings: Object.keys(settings.value).length ? settings.value : undefined,
  hsts_accepted: accepted.value || undefined,
}))
const changes: ComputedRef<number> = computed(
  () => Number(servingChanged.value) + Number(body.value.template !== undefined) + Object.keys(settings.value).length,
)
const header = computed(() => ({ 'If-Match': `"${data.value?.version}"` }))
const wrong = (name: string) => refusal.value?.field(name)
const decision = computed(() => refusal.value?.problem.decide?.find((c) => c.field === 'hsts_accepted'))

const look = () =>
  act(
    async () =>
      (preview.value = await foreseen(
        api.PATCH('/api/v1/accounts/{account}/domains/{domain}', {
          params: { path: path.value, header: header.value, query: { preview: true } },
          body: body.value,
        }),
      )),
    'preview',
  )
const save = () =>
  act(async () => {
    const done = await made(
      api.PATCH('/api/v1/accounts/{account}/domains/{domain}', {
        params: { path: path.value, header: header.value },
        body: body.value,
      }),
    )
    preview.value = undefined
    started.value = done.operation
    await reload()
  }, 'save')
function again() {
  const now = data.value
  data.value = undefined
  setTimeout(() => (data.value = now))
  refusal.value = undefined
}
const remove = () =>
  act(async () => {
    if (
      !(await confirmed(
        t('Remove {unicode} from the account? Its files stay.', { unicode: data.value?.unicode }),
        t('Remove'),
      ))
    )
      return
    await made(api.DELETE('/api/v1/accounts/{account}/domains/{domain}', { params: { path: path.value } }))
    saved()
    await router.push(`/accounts/${props.account}`)
  }, 'remove')

const trace = shallowRef<Schemas['Trace']>()
const traced = () =>
  act(
    async () => (trace.value = await ask(api.GET('/api/v1/trace', { params: { query: { name: data.value!.name } } }))),
    'trace',
  )
function changed(list: Record<string, unknown>, ok: boolean) {
  settings.value = list
  sound.value = ok
}
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" :to="`/accounts/${account}`" :label="$t('The account')" />
  <template v-if="data">
    <PageHead :title="data.unicode" :about="data.unicode === data.name ? undefined : data.name">
      <template #above
        ><RouterLink to="/accounts">{{ $t('Accounts') }}</RouterLink> ›
        <RouterLink :to="`/accounts/${account}`">{{ whole?.name ?? data.account }}</RouterLink></template
      >
      <ElButton :loading="busy === 'trace'" @click="traced">{{ $t('Trace the name') }}</ElButton>
      <ElButton
        v-if="data.served_as !== 'dns-only' && !data.proof?.waiting"
        @click="router.push(`/accounts/${account}/domains/${data.name}/certificate`)"
        >{{ $t('Certificate') }}</ElButton
      >
      <ElButton v-if="!data.proof?.waiting" @click="router.push(`/zones/${data.name}`)">{{
        $t('Zone and records')
      }}</ElButton>
      <ElButton v-if="mayChange && !data.main" @click="remove">{{ $t('Remove…') }}</ElButton>
    </PageHead>
    <DomainProof
      v-if="data.proof"
      :domain="data"
      :may="mayChange"
      @started="started = $event"
      @asked="() => void reload()"
    />
    <WarningList :warnings="data.warnings.filter((w) => w.code !== 'not-proved')" />
    <FactStrip>
      <StripFact :name="$t('Served as')">{{ named(data.served_as) }}</StripFact>
      <StripFact :name="data.served_as === 'site' ? $t('Document root') : $t('Shows')"
        ><code v-if="data.root">{{ data.home }}/{{ data.root }}</code
        ><template v-else>{{ inWords(data) }}</template></StripFact
      >
      <StripFact :name="$t('Counts as')">{{ named(data.counts_as) }}</StripFact>
      <StripFact v-if="data.mirrors.length" :name="$t('Shown as well under')">{{ data.mirrors.join(', ') }}</StripFact>
      <StripFact :name="$t('Server')">{{ data.addresses.join(', ') }}</StripFact>
    </FactStrip>
    <TraceNote v-if="trace" :trace="trace" />
    <section v-if="operation" :aria-label="$t('Steps')">
      <h2>{{ operation.title }}</h2>
      <StepList :operation="operation" />
    </section>
    <div class="halves">
      <section class="stack">
        <h2>{{ $t('How it is served') }}</h2>
        <ServingFields v-model="form" :sites="sites" :home="data.home" :wrong="wrong" :disabled="!mayChange" />
        <ElCheckbox v-if="rooted" v-model="move"
          ><i18n-t
            keypath="move the files from {root} there; they stay where they are otherwise"
            scope="global"
            tag="span"
            ><template #root
              ><code>{{ data.root }}</code></template
            ></i18n-t
          ></ElCheckbox
        >
        <FormField
          v-if="form.served_as === 'site' && templates"
          :label="$t('Template')"
          for="template"
          :error="wrong('template')"
          :hint="$t('Its settings hold where the site has none of its own')"
        >
          <ElSelect id="template" v-model="template" :placeholder="$t('none')" :disabled="!mayChange"
            ><ElOption value="" :label="$t('none')" /><ElOption
              v-for="one in templates.templates"
              :key="refOf(one)"
              :value="refOf(one)"
              :label="refOf(one)"
          /></ElSelect>
        </FormField>
      </section>
      <FolderList v-if="data.served_as === 'site'" :domain="data" :may="mayChange" @started="started = $event" />
      <p v-else-if="data.served_as === 'mirror'" class="quiet">
        <i18n-t keypath="Settings and protected folders are those of {domain}." scope="global" tag="span"
          ><template #domain
            ><RouterLink :to="`/accounts/${account}/domains/${data.mirror_of}`">{{
              data.mirror_of
            }}</RouterLink></template
          ></i18n-t
        >
      </p>
    </div>
    <section v-if="data.served_as === 'site' && form.served_as === 'site'">
      <h2>{{ $t('Settings') }}</h2>
      <SettingFields
        :settings="data.settings"
        own="site"
        :below="data.template ? $t('the template’s value') : $t('the usual value')"
        :fixed="fixed"
        :readonly="!mayChange"
        :wrong="wrong"
        @change="changed"
      />
    </section>
    <SiteLog v-if="data.served_as !== 'dns-only' && !data.proof?.waiting" :domain="data" />
    <div v-if="mayChange && (changes || refusal || preview)" class="bar">
      <ElCheckbox v-if="decision" v-model="accepted">{{
        $t('{means}: I know that this cannot be undone', { means: decision.means })
      }}</ElCheckbox>
      <OutdatedNote v-if="outdated" @show="showLatest" />
      <ProblemNote :refusal="refusal?.problem.errors?.length ? undefined : refusal" />
      <span v-if="refusal?.problem.errors?.length" class="warn">{{ $t('✕ Check the marked fields') }}</span>
      <PreviewNote v-if="preview" :preview="preview" />
      <div v-if="changes" class="acts">
        <ElButton type="primary" :disabled="!sound" :loading="busy === 'save'" @click="save">{{
          $t('Save {n} change | Save {n} changes', { n: changes })
        }}</ElButton>
        <ElButton :disabled="!sound" :loading="busy === 'preview'" @click="look">{{ $t('Preview') }}</ElButton>
        <ElButton @click="again">{{ $t('Cancel') }}</ElButton>
      </div>
    </div>
  </template>
</template>

<style scoped>
.bar {
  position: sticky;
  bottom: 0;
  z-index: 2;
  max-height: 60vh;
  overflow: auto;
  margin: 0.5rem 0 0;
  padding: 0.6rem 0.8rem;
  background: var(--paper);
  border-top: 2px solid var(--signal);
}
</style>
