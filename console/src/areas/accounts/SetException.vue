<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElDialog, ElInput, ElOption, ElOptionGroup, ElRadio, ElRadioGroup, ElSelect } from 'element-plus'
import { api, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLimits } from '../../composables/useLimits'
import { amount, readAmount } from '../../words'
import EffectList from '../../parts/EffectList.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

/** Sets a limit or a feature of one account by hand, with a reason and perhaps an end. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ done: [operation: number | undefined] }>()

const known = useLimits()
const { form, dirty, preview, general, error, busy, act, loadPreview } = useForm(
  () => ({ what: '', value: '', on: true, reason: '', until: '' }),
  shown,
)
const limit = computed(() => known.value?.limits.find((l) => `limit ${l.key}` === form.what))
const feature = computed(() => (form.what.startsWith('feature ') ? form.what.slice(8) : undefined))
const now = computed(() => {
  if (limit.value) {
    const l = props.account.allowance.find((a) => a.key === limit.value!.key)
    return (
      l && `${amount(l.value, l.unit)} now, by ${l.source}${l.used === null ? '' : `; ${amount(l.used, l.unit)} used`}`
    )
  }
  const f = props.account.features.find((a) => a.feature === feature.value)
  return f && `${f.on ? 'on' : 'off'} now, by ${f.source}`
})
const read = computed(() => (limit.value && form.value ? readAmount(form.value, limit.value.unit) : undefined))
const wrong = computed(() => (read.value && 'wrong' in read.value ? read.value.wrong : error('amount')))
const complete = computed(() => form.reason.trim() && (feature.value || (read.value && 'value' in read.value)))
const body = computed(() => ({
  limit: limit.value?.key,
  amount: read.value && 'value' in read.value ? read.value.value : undefined,
  feature: feature.value,
  on: feature.value ? form.on : undefined,
  reason: form.reason.trim(),
  ends_at: form.until ? new Date(`${form.until}T00:00:00`).toISOString() : undefined,
}))
const path = computed(() => ({ account: String(props.account.id) }))
const foresee = () =>
  loadPreview(() =>
    foreseen(
      api.PUT('/api/v1/accounts/{account}/exceptions', {
        params: { path: path.value, query: { preview: true } },
        body: body.value,
      }),
    ),
  )
const set = () =>
  act(async () => {
    const done = await made(
      api.PUT('/api/v1/accounts/{account}/exceptions', { params: { path: path.value }, body: body.value }),
    )
    shown.value = false
    emit('done', done.operation || undefined)
  }, 'set')
</script>

<template>
  <ElDialog
    v-model="shown"
    :close-on-click-modal="!dirty"
    :title="`Set by hand on ${account.name}`"
    width="min(36rem, 94vw)"
  >
    <form id="exception" class="stack" @submit.prevent="set">
      <FormField label="Limit or feature" for="exception-what" :hint="now">
        <ElSelect id="exception-what" v-model="form.what" filterable placeholder="Choose one">
          <ElOptionGroup label="Limits"
            ><ElOption v-for="l in known?.limits" :key="l.key" :value="`limit ${l.key}`" :label="l.title"
          /></ElOptionGroup>
          <ElOptionGroup label="Features"
            ><ElOption
              v-for="f in known?.features"
              :key="f"
              :value="`feature ${f}`"
              :label="`feature ${f.replace('_', ' ')}`"
          /></ElOptionGroup>
        </ElSelect>
      </FormField>
      <FormField
        v-if="limit"
        label="Allowed"
        for="exception-value"
        :error="wrong"
        hint="A number, a size such as 30G, or unlimited"
        ><ElInput id="exception-value" v-model="form.value" spellcheck="false" autocomplete="off"
      /></FormField>
      <ElRadioGroup v-if="feature" v-model="form.on" aria-label="On or off"
        ><ElRadio :value="true">on</ElRadio><ElRadio :value="false">off</ElRadio></ElRadioGroup
      >
      <FormField
        label="Reason"
        for="exception-reason"
        :error="error('reason')"
        hint="Whoever looks at the account, the customer too, can read it"
        ><ElInput id="exception-reason" v-model="form.reason" maxlength="500"
      /></FormField>
      <FormField
        label="Until"
        for="exception-until"
        :error="error('ends_at')"
        hint="Then the plan's value returns; empty is for good"
        ><ElInput id="exception-until" v-model="form.until" type="date"
      /></FormField>
      <EffectList v-if="preview" :effects="preview.effects" />
      <ProblemNote :refusal="general" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">Cancel</ElButton>
      <ElButton :disabled="!complete" :loading="busy === 'preview'" @click="foresee">Preview</ElButton>
      <ElButton type="primary" native-type="submit" form="exception" :disabled="!complete" :loading="busy === 'set'"
        >Set exception</ElButton
      >
    </template>
  </ElDialog>
</template>
