<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ started: [operation: number] }>()

const why = ref('')
const { refusal, busy, act } = useAct()
watch(shown, () => {
  why.value = ''
  refusal.value = undefined
})
const suspend = () =>
  act(async () => {
    const started = await made(
      api.POST('/api/v1/accounts/{account}/suspend', {
        params: { path: { account: String(props.account.id) } },
        body: { why: why.value },
      }),
    )
    shown.value = false
    emit('started', started.operation)
  })
</script>

<template>
  <ElDialog v-model="shown" :title="`Suspend ${account.name}?`" width="min(32rem, 94vw)">
    <form id="suspend-account" class="stack" @submit.prevent="suspend">
      <p>Visitors see a notice. Everything the account has stays, and resuming brings back exactly what was.</p>
      <FormField label="Reason" for="suspend-why" :error="refusal?.field('why')" hint="The customer is told"
        ><ElInput id="suspend-why" v-model="why" maxlength="500"
      /></FormField>
      <ProblemNote :refusal="refusal?.field('why') ? undefined : refusal" />
    </form>
    <template #footer>
      <ElButton @click="shown = false">Cancel</ElButton>
      <ElButton
        type="primary"
        native-type="submit"
        form="suspend-account"
        :disabled="!why.trim()"
        :loading="Boolean(busy)"
        >Suspend</ElButton
      >
    </template>
  </ElDialog>
</template>
