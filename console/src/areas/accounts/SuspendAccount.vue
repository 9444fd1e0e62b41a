<script setup lang="ts">
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

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
  <ElDialog
    v-model="shown"
    :close-on-click-modal="!dirty"
    :title="$t('Suspend {name}?', { name: account.name })"
    width="min(32rem, 94vw)"
  >
    <form id="suspend-account" class="stack" @submit.prevent="suspend">
      <p>
        {{ $t('Visitors see a notice. Everything the account has stays, and resuming brings back exactly what was.') }}
      </p>
      <FormField :label="$t('Reason')" for="suspend-why" :error="error('why')" :hint="$t('The customer is told')"
        ><ElInput id="suspend-why" v-model="form.why" maxlength="500"
      /></FormField>
      <ProblemNote :refusal="general" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">{{ $t('Cancel') }}</ElButton>
      <ElButton
        type="primary"
        native-type="submit"
        form="suspend-account"
        :disabled="!form.why.trim()"
        :loading="Boolean(busy)"
        >{{ $t('Suspend') }}</ElButton
      >
    </template>
  </ElDialog>
</template>
