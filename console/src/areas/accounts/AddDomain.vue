<script setup lang="ts">
import { computed } from 'vue'
import { ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import ServingFields from '../domains/ServingFields.vue'
import { fresh, told } from '../domains/serving'
import { t } from '../../language'
import { named } from '../../codes'

const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ started: [operation: number] }>()

const { form, dirty, general, error, busy, act } = useForm(() => ({ domain: '', serving: fresh() }), shown)
const sites = computed(() => props.account.domains.filter((d) => d.served_as === 'site').map((d) => d.unicode))
const left = (key: string) => props.account.allowance.find((l) => l.key === key)?.left
const add = () =>
  act(async () => {
    const added = await made(
      api.POST('/api/v1/accounts/{account}/domains', {
        params: { path: { account: String(props.account.id) } },
        body: { domain: form.domain, ...told(form.serving) },
      }),
    )
    shown.value = false
    emit('started', added.operation)
  })
const hint = computed(() => {
  const counts = (['domains', 'subdomains', 'mirrors'] as const).map(
    (key) => `${left(key) ?? t('any number of')} ${named(key)}`,
  )
  return t('Left: {counts}', { counts: counts.join(', ') })
})
</script>

<template>
  <FormDialog
    id="add-domain"
    v-model="shown"
    :title="$t('Add a domain')"
    :width="36"
    :action="$t('Add domain')"
    :ready="!!form.domain.trim()"
    :busy="Boolean(busy)"
    :dirty="dirty"
    :refusal="general"
    @submit="add"
  >
    <FormField :label="$t('Domain')" for="new-domain" :error="error('domain')" :hint="hint">
      <ElInput id="new-domain" v-model="form.domain" spellcheck="false" autocapitalize="none" autocomplete="off" />
    </FormField>
    <ServingFields v-model="form.serving" :sites="sites" :home="account.home" :wrong="error" />
  </FormDialog>
</template>
