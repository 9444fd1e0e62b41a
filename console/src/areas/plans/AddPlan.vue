<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useResellers } from '../../composables/useResellers'
import FormField from '../../parts/FormField.vue'
import LimitFields from '../../parts/LimitFields.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'
import { refOf } from './names'

const router = useRouter()
const route = useRoute()
const name = ref('')
const reseller = ref(String(route.query.reseller ?? ''))
const like = String(route.query.like ?? '')
const limits = shallowRef<Record<string, number | null>>({})
const features = shallowRef<Record<string, boolean>>({})
const complete = ref(false)
const preview = shallowRef<Schemas['Preview']>()
const { refusal, busy, act } = useAct()

const { data: model } = useLoad(async () =>
  like
    ? ask(api.GET('/api/v1/plans/{plan}', { params: { path: { plan: like } } }))
    : ({ limits: {}, features: {} } as Schemas['Plan']),
)
const hasResellers = useResellers()

function changed(l: Record<string, number | null>, f: Record<string, boolean>, whole: boolean) {
  limits.value = l
  features.value = f
  complete.value = whole
}
watch([name, reseller, limits, features], () => (preview.value = undefined))
const body = computed(() => ({
  name: name.value.trim(),
  reseller: reseller.value || undefined,
  limits: limits.value as Schemas['NewPlan']['limits'],
  features: features.value as Schemas['NewPlan']['features'],
}))

const add = () =>
  act(async () => {
    const plan = await made(api.POST('/api/v1/plans', { body: body.value }))
    await router.push(`/plans/${refOf(plan)}`)
  }, 'add')
const look = () =>
  act(async () => {
    preview.value = await foreseen(
      api.POST('/api/v1/plans', { params: { query: { preview: true } }, body: body.value }),
    )
  }, 'preview')
const general = computed(() =>
  refusal.value?.problem.errors?.every(
    (e) => e.name === 'name' || e.name.startsWith('limits.') || e.name.startsWith('features.'),
  )
    ? undefined
    : refusal.value,
)
</script>

<template>
  <PageHead :title="like ? `Add a plan like ${like}` : 'Add a plan'">
    <template #above><RouterLink to="/plans">Plans</RouterLink></template>
  </PageHead>
  <form v-if="model" class="halves" @submit.prevent="add">
    <div>
      <div class="pair">
        <FormField
          label="Name"
          for="plan-name"
          :error="refusal?.field('name')"
          hint="Lower-case letters, digits, hyphens"
        >
          <ElInput
            id="plan-name"
            v-model="name"
            autofocus
            spellcheck="false"
            autocapitalize="none"
            autocomplete="off"
          />
        </FormField>
        <FormField v-if="hasResellers" label="Whose" for="plan-reseller">
          <ResellerPick id="plan-reseller" v-model="reseller" placeholder="The operator's" />
        </FormField>
      </div>
      <h2 class="limits">Limits</h2>
      <LimitFields
        :limits="model.limits"
        :features="model.features"
        :wrong="(n) => refusal?.field(n)"
        @change="changed"
      />
    </div>
    <div>
      <ProblemNote :refusal="general" />
      <div class="acts">
        <ElButton native-type="submit" type="primary" :disabled="!name.trim() || !complete" :loading="busy === 'add'"
          >Add the plan</ElButton
        >
        <ElButton :disabled="!name.trim() || !complete" :loading="busy === 'preview'" @click="look">Preview</ElButton>
      </div>
      <p class="quiet">The preview tells what can be kept but will not work in practice.</p>
      <PreviewNote v-if="preview" :preview="preview" />
    </div>
  </form>
</template>

<style scoped>
.limits {
  margin-top: 1rem;
}
</style>
