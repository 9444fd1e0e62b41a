<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import BoundFields from './BoundFields.vue'

/** Adds an authority: first it is asked what it says of itself, then an account is registered with it. */
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const empty = () => ({
  name: '',
  directory: '',
  root: '',
  email: '',
  id: '',
  key: '',
  profile: '',
  usual: false,
  accepted: false,
})
const form = ref(empty())
const bounds = ref<Schemas['Bound'][]>([])
const says = shallowRef<Schemas['AuthorityAnswer']>()
const { refusal, busy, act } = useAct()
watch(open, () => {
  form.value = empty()
  bounds.value = []
  says.value = refusal.value = undefined
})
watch(
  () => [form.value.directory, form.value.root],
  () => (says.value = undefined),
)
const where = computed(() => ({ directory: form.value.directory.trim(), root: form.value.root.trim() || undefined }))
const look = () =>
  act(async () => (says.value = await ask(api.POST('/api/v1/authorities/ask', { body: where.value }))), 'ask')
const add = () =>
  act(async () => {
    const body = {
      ...where.value,
      name: form.value.name.trim(),
      email: form.value.email.trim() || undefined,
      external_id: form.value.id.trim() || undefined,
      external_key: form.value.key.trim() || undefined,
      profile: form.value.profile || undefined,
      usual: form.value.usual || undefined,
      accept_terms: form.value.accepted || undefined,
      bounds: bounds.value.length ? bounds.value : undefined,
    }
    await made(api.POST('/api/v1/authorities', { body }))
    emit('done')
    open.value = false
  }, 'add')
const fields = ['name', 'directory', 'root', 'external_id', 'profile', 'bounds']
const general = computed(() =>
  refusal.value?.problem.errors?.some((e) => fields.includes(e.name)) ? undefined : refusal.value,
)
</script>

<template>
  <ElDialog v-model="open" :title="$t('Add an authority')" width="min(42rem, 94vw)">
    <form id="new-authority" class="stack" @submit.prevent="says ? add() : look()">
      <FormField
        :label="$t('Directory')"
        for="directory"
        :error="refusal?.field('directory')"
        :hint="$t('The address that the authority gives for ACME (RFC 8555)')"
        ><ElInput
          id="directory"
          v-model="form.directory"
          placeholder="https://authority.example/directory"
          spellcheck="false"
          autocomplete="off"
      /></FormField>
      <FormField
        :label="$t('Root certificate')"
        for="root"
        :error="refusal?.field('root')"
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
          <FormField
            :label="$t('Name')"
            for="authority-name"
            :error="refusal?.field('name')"
            :hint="$t('What it is called here')"
            ><ElInput id="authority-name" v-model="form.name" spellcheck="false" autocomplete="off"
          /></FormField>
          <FormField :label="$t('Writes to')" for="authority-email" :error="refusal?.field('email')"
            ><ElInput id="authority-email" v-model="form.email" type="email"
          /></FormField>
        </div>
        <div v-if="says.needs_external" class="pair">
          <FormField
            :label="$t('Number of your account there')"
            for="external-id"
            :error="refusal?.field('external_id')"
            ><ElInput id="external-id" v-model="form.id" autocomplete="off"
          /></FormField>
          <FormField :label="$t('Its key')" for="external-key"
            ><ElInput id="external-key" v-model="form.key" type="password" show-password autocomplete="off"
          /></FormField>
        </div>
        <FormField
          v-if="says.profiles.length"
          :label="$t('Kind of certificates')"
          for="profile"
          :error="refusal?.field('profile')"
          ><ElSelect id="profile" v-model="form.profile" :placeholder="$t('its usual one')"
            ><ElOption value="" :label="$t('its usual one')" /><ElOption
              v-for="p in says.profiles"
              :key="p"
              :value="p"
              :label="p" /></ElSelect
        ></FormField>
        <FormField :label="$t('Ordered at most')" for="bounds" :error="refusal?.field('bounds')"
          ><BoundFields id="bounds" v-model="bounds"
        /></FormField>
        <ElCheckbox v-model="form.usual">{{ $t('the usual one, asked where a site names none') }}</ElCheckbox>
        <ElCheckbox v-if="says.terms" v-model="form.accepted"
          >{{ $t('I agree to its terms:') }}
          <a :href="says.terms" target="_blank" rel="noreferrer noopener">{{ says.terms }}</a></ElCheckbox
        >
      </template>
      <ProblemNote :refusal="general" />
    </form>
    <template #footer>
      <ElButton @click="open = false">{{ $t('Cancel') }}</ElButton>
      <ElButton
        v-if="!says"
        type="primary"
        native-type="submit"
        form="new-authority"
        :disabled="!form.directory.trim()"
        :loading="busy === 'ask'"
        >{{ $t('Ask the authority') }}</ElButton
      >
      <ElButton
        v-else
        type="primary"
        native-type="submit"
        form="new-authority"
        :disabled="!form.name.trim() || (Boolean(says.terms) && !form.accepted)"
        :loading="busy === 'add'"
        >{{ $t('Add authority') }}</ElButton
      >
    </template>
  </ElDialog>
</template>
