<script setup lang="ts">
import { watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, made } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { useResellers } from '../../composables/useResellers'
import { useUnsaved } from '../../composables/useUnsaved'
import LanguagePick from '../../parts/LanguagePick.vue'
import FormField from '../../parts/FormField.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ResellerPick from '../../parts/ResellerPick.vue'

/** Adds a customer, or changes one. */
const props = defineProps<{ customer?: string }>()
const router = useRouter()
const { data, refusal: missing } = useLoad(async () =>
  props.customer
    ? ask(api.GET('/api/v1/customers/{customer}', { params: { path: { customer: props.customer } } }))
    : undefined,
)
const hasResellers = useResellers()
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({
  name: '',
  contact: '',
  email: '',
  phone: '',
  postal: '',
  language: 'en',
  reseller: '',
}))
const saved = useUnsaved(() => dirty.value)
watch(
  data,
  (c) =>
    c &&
    reset({
      name: c.name,
      contact: c.contact ?? '',
      email: c.email ?? '',
      phone: c.phone ?? '',
      postal: c.postal ?? '',
      language: c.language,
    }),
)

const save = () =>
  act(async () => {
    const { reseller, ...fields } = form
    const kept = props.customer
      ? await made(
          api.PATCH('/api/v1/customers/{customer}', {
            params: { path: { customer: props.customer }, header: { 'If-Match': `"${data.value?.version}"` } },
            body: fields,
          }),
        )
      : await made(
          api.POST('/api/v1/customers', {
            body: { ...fields, reseller: reseller || undefined },
          }),
        )
    saved()
    await router.push(`/customers/${kept.id}`)
  })
</script>

<template>
  <NotHere v-if="missing" :refusal="missing" to="/customers" :label="$t('All customers')" />
  <template v-else-if="!customer || data">
    <PageHead :title="data ? $t('Change {name}', { name: data.name }) : $t('Add a customer')"
      ><template #above
        ><RouterLink to="/customers">{{ $t('Customers') }}</RouterLink></template
      ></PageHead
    >
    <form class="form" @submit.prevent="save">
      <FormField :label="$t('Name')" for="name" :error="error('name')"
        ><ElInput id="name" v-model="form.name" autofocus autocomplete="off" maxlength="200"
      /></FormField>
      <FormField
        v-if="!customer && hasResellers"
        :label="$t('Whose customer')"
        for="reseller"
        :error="error('reseller')"
      >
        <ResellerPick id="reseller" v-model="form.reseller" :placeholder="$t(`The operator's own`)" />
      </FormField>
      <FormField :label="$t('Contact')" for="contact" :hint="$t('Whom to ask for')"
        ><ElInput id="contact" v-model="form.contact" autocomplete="off" maxlength="200"
      /></FormField>
      <div class="pair">
        <FormField :label="$t('Mail address')" for="email" :error="error('email')" :hint="$t('For notices')"
          ><ElInput id="email" v-model="form.email" type="email" autocomplete="off"
        /></FormField>
        <FormField :label="$t('Telephone')" for="phone"
          ><ElInput id="phone" v-model="form.phone" type="tel" autocomplete="off" maxlength="60"
        /></FormField>
      </div>
      <FormField :label="$t('Postal address')" for="postal"
        ><ElInput id="postal" v-model="form.postal" type="textarea" :rows="3" maxlength="1000"
      /></FormField>
      <FormField :label="$t('Language of notices')" for="language">
        <LanguagePick id="language" v-model="form.language" />
      </FormField>
      <ProblemNote :refusal="general" />
      <div class="acts">
        <ElButton native-type="submit" type="primary" :disabled="!form.name.trim()" :loading="Boolean(busy)">{{
          data ? $t('Save changes') : $t('Add the customer')
        }}</ElButton>
      </div>
    </form>
  </template>
</template>
