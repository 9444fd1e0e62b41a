<script setup lang="ts">
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, ask } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { save } from './save'

/** Gives a certificate with its key to its owner, who shows once more who they are. */
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ account: string; domain: string }>()
const { form, dirty, general, error, busy, act } = useForm(() => ({ password: '', code: '' }), open)
const take = () =>
  act(async () => {
    const both = await ask(
      api.POST('/api/v1/accounts/{account}/domains/{domain}/certificate/key', {
        params: { path: { account: props.account, domain: props.domain } },
        body: { password: form.password, code: form.code },
      }),
    )
    save(`${props.domain}-with-key.pem`, both.key + both.chain)
    open.value = false
  })
</script>

<template>
  <ElDialog
    v-model="open"
    :close-on-click-modal="!dirty"
    :title="$t('Download the certificate with its key')"
    width="min(28rem, 94vw)"
  >
    <form id="take-key" class="stack" @submit.prevent="take">
      <p>{{ $t('Whoever has the key can pass for {domain}. That you have taken it is recorded.', { domain }) }}</p>
      <FormField :label="$t('Your password')" for="key-password" :error="error('password')"
        ><ElInput id="key-password" v-model="form.password" type="password" autocomplete="current-password"
      /></FormField>
      <FormField :label="$t('Code of your second factor')" for="key-code"
        ><ElInput id="key-code" v-model="form.code" inputmode="numeric" autocomplete="one-time-code"
      /></FormField>
      <ProblemNote :refusal="general" />
    </form>
    <template #footer
      ><ElButton @click="open = false">{{ $t('Cancel') }}</ElButton
      ><ElButton
        type="primary"
        native-type="submit"
        form="take-key"
        :disabled="!form.password || !form.code"
        :loading="Boolean(busy)"
        >{{ $t('Download') }}</ElButton
      ></template
    >
  </ElDialog>
</template>
