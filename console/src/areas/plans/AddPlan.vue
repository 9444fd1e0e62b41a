<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { useResellers } from '../../composables/useResellers'
import { useUnsaved } from '../../composables/useUnsaved'
import FormField from '../../parts/FormField.vue'
import LimitFields from '../../parts/LimitFields.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'
import { refOf } from './names'

const router = useRouter()
const route = useRoute()
const { form, preview, general, error, busy, act, loadPreview } = useForm(() => ({
  name: '',
  reseller: String(route.query.reseller ?? ''),
  limits: {} as Record<string, number | null>,
  features: {} as Record<string, boolean>,
}))
const like = String(route.query.like ?? '')
const complete = ref(false)
const saved = useUnsaved(() => Boolean(form.name.trim()))

const { data: model } = useLoad(async () =>
  like
    ? ask(api.GET('/api/v1/plans/{plan}', { params: { path: { plan: like } } }))
    : ({ limits: {}, features: {} } as Schemas['Plan']),
)
const hasResellers = useResellers()

function changed(l: Record<string, number | null>, f: Record<string, boolean>, whole: boolean) {
  form.limits = l
  form.features = f
  complete.value = whole
}
const body = computed(() => ({
  name: form.name.trim(),
  reseller: form.reseller || undefined,
  limits: form.limits as Schemas['NewPlan']['limits'],
  features: form.features as Schemas['NewPlan']['features'],
}))

const add = () =>
  act(async () => {
    const plan = await made(api.POST('/api/v1/plans', { body: body.value }))
    saved()
    await router.push(`/plans/${refOf(plan)}`)
  }, 'add')
const foresee = () =>
  loadPreview(() => foreseen(api.POST('/api/v1/plans', { params: { query: { preview: true } }, body: body.value })))
</script>

<template>
  <PageHead :title="like ? $t('Add a plan like {like}', { like }) : $t('Add a plan')">
    <template #above
      ><RouterLink to="/plans">{{ $t('Plans') }}</RouterLink></template
    >
  </PageHead>
  <form v-if="model" class="halves" @submit.prevent="add">
    <div>
      <div class="pair">
        <FormField
          :label="$t('Name')"
          for="plan-name"
          :error="error('name')"
          :hint="$t('Lower-case letters, digits, hyphens')"
        >
          <ElInput
            id="plan-name"
            v-model="form.name"
            autofocus
            spellcheck="false"
            autocapitalize="none"
            autocomplete="off"
          />
        </FormField>
        <FormField v-if="hasResellers" :label="$t('Whose')" for="plan-reseller">
          <ResellerPick id="plan-reseller" v-model="form.reseller" :placeholder="$t(`The operator's`)" />
        </FormField>
      </div>
      <h2 class="limits">{{ $t('Limits') }}</h2>
      <LimitFields :limits="model.limits" :features="model.features" :wrong="error" @change="changed" />
    </div>
    <div>
      <ProblemNote :refusal="general" />
      <div class="acts">
        <ElButton
          native-type="submit"
          type="primary"
          :disabled="!form.name.trim() || !complete"
          :loading="busy === 'add'"
          >{{ $t('Add the plan') }}</ElButton
        >
        <ElButton :disabled="!form.name.trim() || !complete" :loading="busy === 'preview'" @click="foresee">{{
          $t('Preview')
        }}</ElButton>
      </div>
      <p class="quiet">{{ $t('The preview tells what can be kept but will not work in practice.') }}</p>
      <PreviewNote v-if="preview" :preview="preview" />
    </div>
  </form>
</template>

<style scoped>
.limits {
  margin-top: 1rem;
}
</style>
