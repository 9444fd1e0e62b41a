<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElInput, ElOption, ElOptionGroup, ElRadio, ElRadioGroup, ElSelect } from 'element-plus'
import { api, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLimits } from '../../composables/useLimits'
import { amount, readAmount } from '../../words'
import EffectList from '../../parts/EffectList.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import { t } from '../../language'

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
      l &&
      (l.used === null
        ? t('{allowed} now, by {source}', { allowed: amount(l.value, l.unit), source: l.source })
        : t('{allowed} now, by {source}; {used} used', {
            allowed: amount(l.value, l.unit),
            source: l.source,
            used: amount(l.used, l.unit),
          }))
    )
  }
  const f = props.account.features.find((a) => a.feature === feature.value)
  return f && t('{allowed} now, by {source}', { allowed: f.on ? t('on') : t('off'), source: f.source })
})
const read = computed(() => (limit.value && form.value ? readAmount(form.value, limit.value.unit) : undefined))
const wrong = computed(() => (read.value && 'wrong' in read.value ? read.value.wrong : error('amount')))
const complete = computed(() => !!form.reason.trim() && Boolean(feature.value || (read.value && 'value' in read.value)))
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
  <FormDialog
    id="exception"
    v-model="shown"
    :title="$t('Set by hand on {name}', { name: account.name })"
    :width="36"
    :action="$t('Set exception')"
    :ready="complete"
    :busy="busy === 'set'"
    :dirty="dirty"
    :refusal="general"
    @submit="set"
  >
    <FormField :label="$t('Limit or feature')" for="exception-what" :hint="now">
      <ElSelect id="exception-what" v-model="form.what" filterable :placeholder="$t('Choose one')">
        <ElOptionGroup :label="$t('Limits')"
          ><ElOption
            v-for="l in known?.limits"
            :key="l.key"
            :value="$t('limit {key}', { key: l.key })"
            :label="l.title"
        /></ElOptionGroup>
        <ElOptionGroup :label="$t('Features')"
          ><ElOption
            v-for="f in known?.features"
            :key="f.key"
            :value="$t('feature {key}', { key: f.key })"
            :label="$t('feature: {title}', { title: f.title })"
        /></ElOptionGroup>
      </ElSelect>
    </FormField>
    <FormField
      v-if="limit"
      :label="$t('Allowed')"
      for="exception-value"
      :error="wrong"
      :hint="$t('A number, a size such as 30G, or unlimited')"
      ><ElInput id="exception-value" v-model="form.value" spellcheck="false" autocomplete="off"
    /></FormField>
    <ElRadioGroup v-if="feature" v-model="form.on" :aria-label="$t('On or off')"
      ><ElRadio :value="true">{{ $t('on') }}</ElRadio
      ><ElRadio :value="false">{{ $t('off') }}</ElRadio></ElRadioGroup
    >
    <FormField
      :label="$t('Reason')"
      for="exception-reason"
      :error="error('reason')"
      :hint="$t('Whoever looks at the account, the customer too, can read it')"
      ><ElInput id="exception-reason" v-model="form.reason" maxlength="500"
    /></FormField>
    <FormField
      :label="$t('Until')"
      for="exception-until"
      :error="error('ends_at')"
      :hint="$t(`Then the plan's value returns; empty is for good`)"
      ><ElInput id="exception-until" v-model="form.until" type="date"
    /></FormField>
    <EffectList v-if="preview" :effects="preview.effects" />
    <template #acts>
      <ElButton :disabled="!complete" :loading="busy === 'preview'" @click="foresee">{{ $t('Preview') }}</ElButton>
    </template>
  </FormDialog>
</template>
