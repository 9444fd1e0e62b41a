<script lang="ts">
/** For whom somebody is to sign in; an operator if for neither. */
export interface Origin {
  customer?: number
  reseller?: string
  email?: string
  language?: string
}
</script>

<script setup lang="ts">
import { computed } from 'vue'
import { ElCheckbox, ElInput, ElOption, ElRadio, ElRadioGroup, ElSelect } from 'element-plus'
import { api, made } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import { duties } from './duties'

const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ origin: Origin }>()
const emit = defineEmits<{ added: [] }>()

const { form, dirty, general, error, busy, act } = useForm(
  () => ({
    name: '',
    email: props.origin.email ?? '',
    language: props.origin.language ?? 'en',
    duty: 'all' as keyof typeof duties,
    activation: 'link' as 'link' | 'password' | 'none',
    password: '',
    mustChange: true,
    readOnly: false,
  }),
  shown,
)
const operator = computed(() => !props.origin.customer && !props.origin.reseller)

const add = () =>
  act(async () => {
    const body = {
      name: form.name.trim(),
      email: form.email.trim() || undefined,
      language: form.language,
      duty: operator.value ? form.duty : undefined,
      read_only: form.readOnly || undefined,
      customer: props.origin.customer,
      reseller: props.origin.customer ? undefined : props.origin.reseller,
      activation: form.activation,
      password: form.activation === 'password' ? form.password : undefined,
      must_change: form.activation === 'password' ? form.mustChange : undefined,
    }
    await made(api.POST('/api/v1/people', { body }))
    shown.value = false
    emit('added')
  })
</script>

<template>
  <FormDialog
    id="add-person"
    v-model="shown"
    :title="operator ? $t('Add an operator') : $t('Let somebody sign in')"
    :action="$t('Add')"
    :ready="!!form.name.trim() && (form.activation !== 'password' || !!form.password)"
    :busy="Boolean(busy)"
    :dirty="dirty"
    :refusal="general"
    @submit="add"
  >
    <FormField :label="$t('Sign-in name')" for="person-name" :error="error('name')"
      ><ElInput id="person-name" v-model="form.name" spellcheck="false" autocapitalize="none" autocomplete="off"
    /></FormField>
    <FormField :label="$t('Mail address')" for="person-email" :error="error('email')"
      ><ElInput id="person-email" v-model="form.email" type="email" autocomplete="off"
    /></FormField>
    <FormField v-if="operator" :label="$t('Duty')" for="person-duty" :hint="duties[form.duty]">
      <ElSelect id="person-duty" v-model="form.duty"
        ><ElOption v-for="duty in Object.keys(duties)" :key="duty" :value="duty" :label="duty"
      /></ElSelect>
    </FormField>
    <ElCheckbox v-model="form.readOnly">{{ $t('Read-only: may look, not change') }}</ElCheckbox>
    <ElRadioGroup v-model="form.activation" :aria-label="$t('First sign-in')" class="choice">
      <ElRadio value="link">{{ $t('mail a link to choose a password') }}</ElRadio>
      <ElRadio value="password">{{ $t('set a password here') }}</ElRadio>
      <ElRadio value="none">{{ $t('later') }}</ElRadio>
    </ElRadioGroup>
    <template v-if="form.activation === 'password'">
      <NewPassword
        v-model="form.password"
        :about="[form.name, form.email]"
        :error="error('password')"
        :label="$t('First password')"
      />
      <ElCheckbox v-model="form.mustChange">{{ $t('Has to be changed at the first sign-in') }}</ElCheckbox>
    </template>
  </FormDialog>
</template>

<style scoped>
.choice {
  display: grid;
  justify-items: start;
}
</style>
