<script setup lang="ts">
import { ElInput } from 'element-plus'
import { api, ask } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
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
  <FormDialog
    id="take-key"
    v-model="open"
    :title="$t('Download the certificate with its key')"
    :width="28"
    :action="$t('Download')"
    :ready="Boolean(form.password && form.code)"
    :busy="Boolean(busy)"
    :dirty="dirty"
    :refusal="general"
    @submit="take"
  >
    <p>{{ $t('Whoever has the key can pass for {domain}. That you have taken it is recorded.', { domain }) }}</p>
    <FormField :label="$t('Your password')" for="key-password" :error="error('password')"
      ><ElInput id="key-password" v-model="form.password" type="password" autocomplete="current-password"
    /></FormField>
    <FormField :label="$t('Code of your second factor')" for="key-code"
      ><ElInput id="key-code" v-model="form.code" inputmode="numeric" autocomplete="one-time-code"
    /></FormField>
  </FormDialog>
</template>
