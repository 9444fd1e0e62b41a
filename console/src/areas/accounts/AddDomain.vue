<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
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
  <ElDialog v-model="shown" :close-on-click-modal="!dirty" :title="$t('Add a domain')" width="min(36rem, 94vw)">
    <form id="add-domain" class="stack" @submit.prevent="add">
      <FormField :label="$t('Domain')" for="new-domain" :error="error('domain')" :hint="hint">
        <ElInput id="new-domain" v-model="form.domain" spellcheck="false" autocapitalize="none" autocomplete="off" />
      </FormField>
      <ServingFields v-model="form.serving" :sites="sites" :home="account.home" :wrong="error" />
      <ProblemNote :refusal="general" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">{{ $t('Cancel') }}</ElButton>
      <ElButton
        type="primary"
        native-type="submit"
        form="add-domain"
        :disabled="!form.domain.trim()"
        :loading="Boolean(busy)"
        >{{ $t('Add domain') }}</ElButton
      >
    </template>
  </ElDialog>
</template>
