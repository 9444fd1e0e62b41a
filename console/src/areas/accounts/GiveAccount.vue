<script setup lang="ts">
import { api, ask, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import CustomerPick from '../../parts/CustomerPick.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'

/** Gives an account to another customer of the same seller. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ done: [] }>()

const { form, dirty, general, error, busy, act } = useForm(() => ({ customer: '' }), shown)
const give = () =>
  act(async () => {
    await ask(
      api.PUT('/api/v1/accounts/{account}/customer', {
        params: { path: { account: String(props.account.id) } },
        body: { customer: form.customer },
      }),
    )
    shown.value = false
    emit('done')
  })
</script>

<template>
  <FormDialog
    id="give-account"
    v-model="shown"
    :title="$t('Give {name} to another customer', { name: account.name })"
    :width="32"
    :action="$t('Give account')"
    :ready="!!form.customer"
    :busy="Boolean(busy)"
    :dirty="dirty"
    :refusal="general"
    @submit="give"
  >
    <p>
      {{
        $t(
          'Nothing of what it holds changes. Passwords and keys for its files stay: change them if {customer} should not get in any more.',
          { customer: account.customer },
        )
      }}
    </p>
    <FormField :label="$t('Customer')" for="give-customer" :error="error('customer')"
      ><CustomerPick id="give-customer" v-model="form.customer" :reseller="account.reseller"
    /></FormField>
  </FormDialog>
</template>
