<script setup lang="ts">
import { computed, ref, shallowRef, watch, type ComputedRef } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { useUnsaved } from '../../composables/useUnsaved'
import FormField from '../../parts/FormField.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import SettingFields from '../../parts/SettingFields.vue'
import StepList from '../../parts/StepList.vue'
import { may } from '../session/state'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'

/** A template; without a name, one to be added. */
const props = defineProps<{ template?: string }>()
const router = useRouter()
const path = computed(() => ({ template: props.template ?? '' }))
const {
  data,
  outdated,
  refusal: missing,
  reload,
  refresh,
  showLatest,
} = useLoad(
  async () =>
    props.template ? await ask(api.GET('/api/v1/templates/{template}', { params: { path: path.value } })) : undefined,
  { on: path, live: true, editing: () => dirty.value },
)

const name = ref('')
const about = ref('')
// Records for zones, a line for each: name, type, data.
const records = ref('')
const written = (list?: Schemas['NewRecord'][]) => (list ?? []).map((r) => `${r.name} ${r.type} ${r.data}`).join('\n')
const read = (text: string) =>
  text
    .split('\n')
    .filter((l) => l.trim())
    .map((line) => {
      const [, name, type, data] = /^\s*(\S+)\s+(\S+)\s*(.*)$/.exec(line) ?? ['', line.trim(), '', '']
      return { name: name!, type: type!, data: data! }
    })
const settings = shallowRef<Record<string, unknown>>({})
const sound = ref(true)
const preview = shallowRef<Schemas['Preview']>()
const started = ref<number>()
const { refusal, busy, act } = useAct()
const { operation } = useOperation(started, () => void refresh())
watch(data, (read) => {
  about.value = read?.about ?? ''
  records.value = written(read?.records)
})
watch([about, settings, records], () => (preview.value = undefined))

const shown = computed<Schemas['Setting'][]>(() =>
  Object.entries(data.value?.settings ?? {}).map(([key, value]) => ({ key, value, source: 'template' })),
)
const mine = computed(() => may('templates.change') && (!props.template || Boolean(data.value?.mine)))
const header = computed(() => ({ 'If-Match': `"${data.value?.version}"` }))
const body = computed<Schemas['TemplateChange']>(() => ({
  about: about.value !== (data.value?.about ?? '') ? about.value : undefined,
  settings: Object.keys(settings.value).length ? settings.value : undefined,
  records: records.value !== written(data.value?.records) ? read(records.value) : undefined,
}))
const dirty: ComputedRef<boolean> = computed(() => Object.values(body.value).some((v) => v !== undefined))
const saved = useUnsaved(() => mine.value && dirty.value)
const wrongRecord = computed(() => refusal.value?.problem.errors?.find((e) => e.name.startsWith('records'))?.message)

const add = () =>
  act(async () => {
    const t = await made(
      api.POST('/api/v1/templates', {
        body: {
          name: name.value.trim(),
          about: about.value || undefined,
          settings: settings.value,
          records: read(records.value),
        },
      }),
    )
    saved()
    await router.push(`/templates/${t.name}`)
  }, 'save')
const look = () =>
  act(
    async () =>
      (preview.value = await foreseen(
        api.PATCH('/api/v1/templates/{template}', {
          params: { path: path.value, header: header.value, query: { preview: true } },
          body: body.value,
        }),
      )),
    'preview',
  )
const save = () =>
  act(async () => {
    const done = await made(
      api.PATCH('/api/v1/templates/{template}', {
        params: { path: path.value, header: header.value },
        body: body.value,
      }),
    )
    preview.value = undefined
    started.value = done.operation || undefined
    await reload()
  }, 'save')
const remove = () =>
  act(async () => {
    if (!(await confirmed(t('Remove the template {template}?', { template: props.template }), t('Remove')))) return
    await ask(api.DELETE('/api/v1/templates/{template}', { params: { path: path.value } }))
    saved()
    await router.push('/templates')
  }, 'remove')
function changed(list: Record<string, unknown>, ok: boolean) {
  settings.value = list
  sound.value = ok
}
</script>

<template>
  <NotHere v-if="template && !data && missing" :refusal="missing" to="/templates" :label="$t('All templates')" />
  <template v-if="data || !template">
    <PageHead
      :title="data?.name ?? $t('Add a template')"
      :about="data?.reseller ? $t('Template of {reseller}', { reseller: data.reseller }) : undefined"
    >
      <template #above
        ><RouterLink to="/templates">{{ $t('Templates') }}</RouterLink></template
      >
      <span v-if="data" class="quiet"
        >{{ $t('{n} site | {n} sites', { n: data.sites }) }}, {{ $t('{n} plan | {n} plans', { n: data.plans }) }}</span
      >
      <ElButton v-if="data && mine" @click="remove">{{ $t('Remove…') }}</ElButton>
    </PageHead>
    <section v-if="operation" :aria-label="$t('Steps')">
      <h2>{{ operation.title }}</h2>
      <StepList :operation="operation" />
    </section>
    <div class="form heading">
      <FormField
        v-if="!template"
        :label="$t('Name')"
        for="template-name"
        :error="refusal?.field('name')"
        :hint="$t('Lower-case letters, digits and hyphens')"
        ><ElInput id="template-name" v-model="name" spellcheck="false" autocomplete="off"
      /></FormField>
      <FormField :label="$t('What it is good for')" for="template-about"
        ><ElInput id="template-about" v-model="about" :disabled="!mine" maxlength="300"
      /></FormField>
    </div>
    <SettingFields
      :settings="shown"
      own="template"
      :below="$t('the usual value')"
      :readonly="!mine"
      :wrong="(n) => refusal?.field(n)"
      @change="changed"
    />
    <section>
      <h2>{{ $t('Records') }}</h2>
      <FormField
        :label="$t('What it adds to zones, a line for each record')"
        for="template-records"
        :error="wrongRecord"
        :hint="$t('Name, type and data; names are relative to each zone. What sites need goes first.')"
      >
        <ElInput
          id="template-records"
          v-model="records"
          type="textarea"
          :autosize="{ minRows: 2, maxRows: 12 }"
          :disabled="!mine"
          spellcheck="false"
          placeholder="@ TXT v=spf1 mx -all"
        />
      </FormField>
    </section>
    <OutdatedNote v-if="outdated" @show="showLatest" />
    <ProblemNote :refusal="refusal?.problem.errors?.length ? undefined : refusal" />
    <PreviewNote v-if="preview" :preview="preview" />
    <div v-if="mine" class="acts">
      <ElButton
        v-if="!template"
        type="primary"
        :disabled="!name.trim() || !sound"
        :loading="busy === 'save'"
        @click="add"
        >{{ $t('Add template') }}</ElButton
      >
      <template v-else-if="dirty">
        <ElButton type="primary" :disabled="!sound" :loading="busy === 'save'" @click="save">{{
          $t('Save, for {n} site | Save, for {n} sites', { n: data?.sites ?? 0 })
        }}</ElButton>
        <ElButton :disabled="!sound" :loading="busy === 'preview'" @click="look">{{ $t('Preview') }}</ElButton>
      </template>
    </div>
  </template>
</template>

<style scoped>
.heading {
  margin-bottom: 1rem;
  max-width: 40rem;
}
</style>
