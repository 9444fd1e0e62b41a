<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, ask } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { save } from './save'

/** Gives a certificate with its key to its owner, who shows once more who they are. */
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ account: string; domain: string }>()
const password = ref('')
const code = ref('')
const { refusal, busy, act } = useAct()
watch(open, () => {
  password.value = code.value = ''
  refusal.value = undefined
})
const take = () =>
  act(async () => {
    const both = await ask(
      api.POST('/api/v1/accounts/{account}/domains/{domain}/certificate/key', {
        params: { path: { account: props.account, domain: props.domain } },
        body: { password: password.value, code: code.value },
      }),
    )
    save(`${props.domain}-with-key.pem`, both.key + both.chain)
    open.value = false
  })
</script>

<template>
  <ElDialog v-model="open" title="Download the certificate with its key" width="min(28rem, 94vw)">
    <form id="take-key" class="stack" @submit.prevent="take">
      <p>Whoever has the key can pass for {{ domain }}. That you have taken it is recorded.</p>
      <FormField label="Your password" for="key-password" :error="refusal?.field('password')"
        ><ElInput id="key-password" v-model="password" type="password" autocomplete="current-password"
      /></FormField>
      <FormField label="Code of your second factor" for="key-code"
        ><ElInput id="key-code" v-model="code" inputmode="numeric" autocomplete="one-time-code"
      /></FormField>
      <ProblemNote :refusal="refusal?.problem.errors?.length ? undefined : refusal" />
    </form>
    <template #footer
      ><ElButton @click="open = false">Cancel</ElButton
      ><ElButton
        type="primary"
        native-type="submit"
        form="take-key"
        :disabled="!password || !code"
        :loading="Boolean(busy)"
        >Download</ElButton
      ></template
    >
  </ElDialog>
</template>
