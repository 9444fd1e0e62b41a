<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'
import { ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import BoundFields from './BoundFields.vue'

/** Adds an authority: first it is asked what it says of itself, then an account is registered with it. */
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
// In the template, the type checker takes what stands behind // for a comment.
const example = 'https://authority.example/directory'
const says = shallowRef<Schemas['AuthorityAnswer']>()
const { form, dirty, general, error, busy, act } = useForm(
  () => ({
    name: '',
    directory: '',
    root: '',
    email: '',
    id: '',
    key: '',
    profile: '',
    bounds: [] as Schemas['Bound'][],
    usual: false,
    accepted: false,
  }),
  open,
)
watch([open, () => form.directory, () => form.root], () => (says.value = undefined))
const where = computed(() => ({ directory: form.directory.trim(), root: form.root.trim() || undefined }))
const look = () =>
  act(async () => (says.value = await ask(api.POST('/api/v1/authorities/ask', { body: where.value }))), 'ask')
const add = () =>
  act(async () => {
    const body = {
      ...where.value,
      name: form.name.trim(),
      email: form.email.trim() || undefined,
      external_id: form.id.trim() || undefined,
      external_key: form.key.trim() || undefined,
      profile: form.profile || undefined,
      usual: form.usual || undefined,
      accept_terms: form.accepted || undefined,
      bounds: form.bounds.length ? form.bounds : undefined,
    }
    await made(api.POST('/api/v1/authorities', { body }))
    emit('done')
    open.value = false
  }, 'add')
</script>

<template>
  <FormDialog
    id="new-authority"
    v-model="open"
    :title="$t('Add an authority')"
    :width="42"
    :action="says ? $t('Add authority') : $t('Ask the authority')"
    :ready="says ? !!form.name.trim() && (!says.terms || form.accepted) : !!form.directory.trim()"
    :busy="!!busy"
    :dirty="dirty"
    :refusal="general"
    @submit="says ? add() : look()"
  >
    <FormField
      :label="$t('Directory')"
      for="directory"
      :error="error('directory')"
      :hint="$t('The address that the authority gives for ACME (RFC 8555)')"
      ><ElInput id="directory" v-model="form.directory" :placeholder="example" spellcheck="false" autocomplete="off"
    /></FormField>
    <FormField
      :label="$t('Root certificate')"
      for="root"
      :error="error('root')"
      :hint="$t('Only for an authority of your own, whose address this machine does not trust yet')"
      ><ElInput
        id="root"
        v-model="form.root"
        type="textarea"
        :rows="2"
        spellcheck="false"
        placeholder="-----BEGIN CERTIFICATE-----"
    /></FormField>
    <template v-if="says">
      <p>
        <i18n-t keypath="It is known to CAA records as {names}." scope="global" tag="span"
          ><template #names
            ><b>{{ says.identities.join(', ') || $t('nothing') }}</b></template
          ></i18n-t
        >
        {{
          says.renewal
            ? $t('It says itself when certificates are to be renewed.')
            : $t('It leaves it to us when certificates are renewed.')
        }}
      </p>
      <div class="pair">
        <FormField :label="$t('Name')" for="authority-name" :error="error('name')" :hint="$t('What it is called here')"
          ><ElInput id="authority-name" v-model="form.name" spellcheck="false" autocomplete="off"
        /></FormField>
        <FormField :label="$t('Writes to')" for="authority-email" :error="error('email')"
          ><ElInput id="authority-email" v-model="form.email" type="email"
        /></FormField>
      </div>
      <div v-if="says.needs_external" class="pair">
        <FormField :label="$t('Number of your account there')" for="external-id" :error="error('external_id')"
          ><ElInput id="external-id" v-model="form.id" autocomplete="off"
        /></FormField>
        <FormField :label="$t('Its key')" for="external-key"
          ><ElInput id="external-key" v-model="form.key" type="password" show-password autocomplete="off"
        /></FormField>
      </div>
      <FormField v-if="says.profiles.length" :label="$t('Kind of certificates')" for="profile" :error="error('profile')"
        ><ElSelect id="profile" v-model="form.profile" :placeholder="$t('its usual one')"
          ><ElOption value="" :label="$t('its usual one')" /><ElOption
            v-for="p in says.profiles"
            :key="p"
            :value="p"
            :label="p" /></ElSelect
      ></FormField>
      <FormField :label="$t('Ordered at most')" for="bounds" :error="error('bounds')"
        ><BoundFields id="bounds" v-model="form.bounds"
      /></FormField>
      <ElCheckbox v-model="form.usual">{{ $t('the usual one, asked where a site names none') }}</ElCheckbox>
      <ElCheckbox v-if="says.terms" v-model="form.accepted"
        >{{ $t('I agree to its terms:') }}
        <a :href="says.terms" target="_blank" rel="noreferrer noopener">{{ says.terms }}</a></ElCheckbox
      >
    </template>
  </FormDialog>
</template>
