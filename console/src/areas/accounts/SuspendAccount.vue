<script setup lang="ts">
import { ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'

const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ started: [operation: number] }>()

const { form, dirty, general, error, busy, act } = useForm(() => ({ why: '' }), shown)
const suspend = () =>
  act(async () => {
    const started = await made(
      api.POST('/api/v1/accounts/{account}/suspend', {
        params: { path: { account: String(props.account.id) } },
        body: { why: form.why },
      }),
    )
    shown.value = false
    emit('started', started.operation)
  })
</script>

<template>
  <FormDialog
    id="suspend-account"
    v-model="shown"
    :title="$t('Suspend {name}?', { name: account.name })"
    :width="32"
    :action="$t('Suspend')"
    :ready="!!form.why.trim()"
    :busy="Boolean(busy)"
    :dirty="dirty"
    :refusal="general"
    @submit="suspend"
  >
    <p>
      {{ $t('Visitors see a notice. Everything the account has stays, and resuming brings back exactly what was.') }}
    </p>
    <FormField :label="$t('Reason')" for="suspend-why" :error="error('why')" :hint="$t('The customer is told')"
      ><ElInput id="suspend-why" v-model="form.why" maxlength="500"
    /></FormField>
  </FormDialog>
</template>
