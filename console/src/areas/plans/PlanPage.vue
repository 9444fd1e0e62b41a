<script setup lang="ts">
import { computed, ref, shallowRef, watch, type ComputedRef } from 'vue'
import { ElButton, ElInput, ElRadio, ElRadioGroup } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import { useUnsaved } from '../../composables/useUnsaved'
import FormField from '../../parts/FormField.vue'
import LimitFields from '../../parts/LimitFields.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StepList from '../../parts/StepList.vue'
import { may } from '../session/state'
import { refOf } from './names'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'

const props = defineProps<{ plan: string }>()
const router = useRouter()
const path = computed(() => ({ plan: props.plan }))
const {
  data,
  outdated,
  refusal: missing,
  reload,
  showLatest,
} = useLoad(() => ask(api.GET('/api/v1/plans/{plan}', { params: { path: path.value } })), {
  on: path,
  live: true,
  editing: () => dirty.value || form.freeze !== 'none',
})

const { form, preview, general, error, busy, act, loadPreview, reset } = useForm(() => ({
  name: '',
  freeze: 'none' as 'none' | 'over' | 'all',
  limits: {} as Record<string, number | null>,
  features: {} as Record<string, boolean>,
}))
const complete = ref(false)
const outcome = shallowRef<Schemas['PlanChanged']>()
const { operation } = useOperation(computed(() => outcome.value?.operation || undefined))

watch(data, (plan) => reset({ name: plan?.name ?? '' }))
function changed(l: Record<string, number | null>, f: Record<string, boolean>, whole: boolean) {
  form.limits = l
  form.features = f
  complete.value = whole
}

/** Only what differs from the plan as it was read is sent. */
const body = computed(() => {
  const plan = data.value!
  const differs = <T,>(now: Record<string, T>, was: Record<string, T | undefined>) =>
    Object.fromEntries(Object.entries(now).filter(([key, v]) => v !== was[key]))
  return {
    name: form.name.trim() !== plan.name ? form.name.trim() : undefined,
    limits: differs(form.limits, plan.limits as Record<string, number | null>) as Schemas['PlanChange']['limits'],
    features: differs(form.features, plan.features as Record<string, boolean>) as Schemas['PlanChange']['features'],
    freeze: form.freeze,
  }
})
const dirty: ComputedRef<boolean> = computed(
  () =>
    data.value !== undefined &&
    Boolean(
      body.value.name || Object.keys(body.value.limits ?? {}).length || Object.keys(body.value.features ?? {}).length,
    ),
)
const saved = useUnsaved(() => dirty.value)
const header = computed(() => ({ 'If-Match': `"${data.value?.version}"` }))

const look = () =>
  loadPreview(() =>
    foreseen(
      api.PATCH('/api/v1/plans/{plan}', {
        params: { path: path.value, header: header.value, query: { preview: true } },
        body: body.value,
      }),
    ),
  )
const change = () =>
  act(async () => {
    outcome.value = await made(
      api.PATCH('/api/v1/plans/{plan}', { params: { path: path.value, header: header.value }, body: body.value }),
    )
    preview.value = undefined
    if (refOf(outcome.value.plan) !== props.plan) await router.replace(`/plans/${refOf(outcome.value.plan)}`)
    await reload()
  }, 'change')
const remove = () =>
  act(async () => {
    if (!(await confirmed(t('Remove the plan {plan}?', { plan: props.plan }), t('Remove')))) return
    await ask(api.DELETE('/api/v1/plans/{plan}', { params: { path: path.value } }))
    saved()
    await router.push('/plans')
  }, 'remove')
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" to="/plans" :label="$t('All plans')" />
  <template v-if="data">
    <PageHead
      :title="data.name"
      :about="data.reseller ? $t('Plan of {reseller}', { reseller: data.reseller }) : undefined"
    >
      <template #above
        ><RouterLink to="/plans">{{ $t('Plans') }}</RouterLink></template
      >
      <RouterLink :to="{ path: '/accounts', query: { plan } }">{{
        $t('{n} account | {n} accounts', { n: data.accounts })
      }}</RouterLink>
      <ElButton
        v-if="may('plans.change')"
        @click="router.push({ path: '/plans/add', query: { like: plan, reseller: data.reseller } })"
        >{{ $t('Copy') }}</ElButton
      >
      <ElButton v-if="may('plans.change')" :loading="busy === 'remove'" @click="remove">{{ $t('Remove…') }}</ElButton>
    </PageHead>
    <ul v-if="data.warnings.length" class="notes">
      <li v-for="w in data.warnings" :key="w.name" class="warn">▲ {{ w.message }}</li>
    </ul>
    <form class="halves" @submit.prevent="preview ? change() : look()">
      <div>
        <FormField v-if="may('plans.change')" :label="$t('Name')" for="plan-name" :error="error('name')">
          <ElInput id="plan-name" v-model="form.name" spellcheck="false" autocapitalize="none" autocomplete="off" />
        </FormField>
        <h2 class="limits">{{ $t('Limits') }}</h2>
        <LimitFields
          :key="data.version"
          :limits="data.limits"
          :features="data.features"
          :wrong="error"
          @change="changed"
        />
      </div>
      <div v-if="may('plans.change')">
        <section v-if="outcome && !dirty" :aria-label="$t('Outcome')">
          <p>
            {{
              $t(
                '● Changed. {n} account may use more or less than before. | ● Changed. {n} accounts may use more or less than before.',
                { n: outcome.accounts_changed },
              )
            }}
            {{
              outcome.accounts_frozen
                ? $t('{n} keeps its present limits. | {n} keep their present limits.', { n: outcome.accounts_frozen })
                : ''
            }}
          </p>
          <StepList v-if="operation" :operation="operation" />
        </section>
        <template v-if="data.accounts">
          <h2 id="freeze-title">{{ $t('Accounts that keep their present limits') }}</h2>
          <ElRadioGroup v-model="form.freeze" aria-labelledby="freeze-title" class="freeze">
            <ElRadio value="none">{{
              $t('none: all {accounts} change with the plan', { accounts: data.accounts })
            }}</ElRadio>
            <ElRadio value="over">{{ $t('those that would be over a limit') }}</ElRadio>
            <ElRadio value="all">{{ $t('all: only new accounts get the new limits') }}</ElRadio>
          </ElRadioGroup>
          <p class="quiet">
            {{ $t('Nothing is ever deleted: an account over a limit cannot grow there. Exceptions stay.') }}
          </p>
        </template>
        <OutdatedNote v-if="outdated" @show="showLatest" />
        <ProblemNote :refusal="general" />
        <div class="acts">
          <ElButton
            native-type="submit"
            :type="preview ? 'primary' : undefined"
            :disabled="!dirty || !complete"
            :loading="busy === 'preview' || busy === 'change'"
            >{{ preview ? $t('Change the plan') : $t('Preview the change') }}</ElButton
          >
        </div>
        <PreviewNote v-if="preview" :preview="preview" />
      </div>
    </form>
  </template>
</template>

<style scoped>
.limits {
  margin-top: 1rem;
}
.freeze {
  display: grid;
  justify-items: start;
}
</style>
