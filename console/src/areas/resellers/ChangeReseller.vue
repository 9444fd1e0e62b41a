<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElInput, ElRadio, ElRadioGroup } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { useUnsaved } from '../../composables/useUnsaved'
import FormField from '../../parts/FormField.vue'
import LimitFields from '../../parts/LimitFields.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

const props = defineProps<{ reseller: string }>()
const router = useRouter()
const path = computed(() => ({ reseller: props.reseller }))
const { data, refusal: missing } = useLoad(() =>
  ask(api.GET('/api/v1/resellers/{reseller}', { params: { path: path.value } })),
)

const { form, dirty, preview, refusal, general, error, busy, act, loadPreview, reset } = useForm(() => ({
  title: '',
  email: '',
  measure: 'allotted' as 'allotted' | 'used',
}))
const saved = useUnsaved(() => dirty.value)
/** What is given stays given, though the new share is smaller: decided after the preview has said so. */
const keep = ref(false)
const limits = shallowRef<Record<string, number | null>>({})
const features = shallowRef<Record<string, boolean>>({})
const complete = ref(false)
watch(data, (r) => r && reset({ title: r.title, email: r.email ?? '', measure: r.measure }))
watch([limits, features], () => (preview.value = undefined))

const body = computed(() => ({
  title: form.title,
  email: form.email.trim(),
  measure: form.measure,
  over: keep.value ? ('keep' as const) : undefined,
  limits: limits.value as Schemas['ResellerChange']['limits'],
  features: features.value as Schemas['ResellerChange']['features'],
}))
const header = computed(() => ({ 'If-Match': `"${data.value?.version}"` }))
const foresee = () =>
  loadPreview(() =>
    foreseen(
      api.PATCH('/api/v1/resellers/{reseller}', {
        params: { path: path.value, header: header.value, query: { preview: true } },
        body: body.value,
      }),
    ),
  )
const change = () =>
  act(async () => {
    await made(
      api.PATCH('/api/v1/resellers/{reseller}', {
        params: { path: path.value, header: header.value },
        body: body.value,
      }),
    )
    saved()
    await router.push(`/resellers/${props.reseller}`)
  }, 'change')
const over = computed(
  () =>
    preview.value?.notes.some((n) => n.startsWith('over the new share')) || refusal.value?.kind === 'needs-decision',
)
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" to="/resellers" :label="$t('All resellers')" />
  <template v-if="data">
    <PageHead :title="$t('Change {title}', { title: data.title })"
      ><template #above
        ><RouterLink :to="`/resellers/${reseller}`">{{ data.title }}</RouterLink></template
      ></PageHead
    >
    <form class="halves" @submit.prevent="preview ? change() : foresee()">
      <div>
        <h2>{{ $t('Share') }}</h2>
        <LimitFields
          :limits="data.limits"
          :features="data.features"
          :wrong="error"
          @change="(l, f, whole) => ((limits = l), (features = f), (complete = whole))"
        />
      </div>
      <div class="form">
        <FormField :label="$t('Title')" for="title" :error="error('title')"
          ><ElInput id="title" v-model="form.title"
        /></FormField>
        <FormField :label="$t('Contact address')" for="email" :error="error('email')"
          ><ElInput id="email" v-model="form.email" type="email"
        /></FormField>
        <div>
          <h2 id="measure-title">{{ $t('Compared with the share') }}</h2>
          <ElRadioGroup v-model="form.measure" aria-labelledby="measure-title" class="choice">
            <ElRadio value="allotted">{{ $t('what is allotted') }}</ElRadio>
            <ElRadio value="used">{{ $t('what is used') }}</ElRadio>
          </ElRadioGroup>
        </div>
        <ProblemNote :refusal="general" />
        <ElCheckbox v-if="over" v-model="keep">{{
          $t(
            'Keep what is given out: no account can use more than the share itself, and nothing more can be given out there',
          )
        }}</ElCheckbox>
        <div class="acts">
          <ElButton
            native-type="submit"
            :type="preview ? 'primary' : undefined"
            :disabled="!complete || (Boolean(preview) && over && !keep)"
            :loading="Boolean(busy)"
            >{{ preview ? $t('Change the reseller') : $t('Preview the change') }}</ElButton
          >
        </div>
        <PreviewNote v-if="preview" :preview="preview" />
      </div>
    </form>
  </template>
</template>

<style scoped>
.choice {
  display: grid;
  justify-items: start;
}
</style>
