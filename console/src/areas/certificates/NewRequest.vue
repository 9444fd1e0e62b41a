<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElCheckbox, ElCheckboxGroup, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { keyTypes, possible } from './names'
import { save } from './save'

/** Makes a key and a signing request for an authority of one's own choice. */
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ account: string; certificate: Schemas['SiteCertificate'] }>()
const emit = defineEmits<{ done: [] }>()

const empty = () => ({
  names: [...props.certificate.names],
  keyType: props.certificate.key_type,
  organization: '',
  unit: '',
  locality: '',
  province: '',
  country: '',
})
const request = ref('')
const { form, dirty, general, error, busy, act } = useForm(empty, open)
watch(open, (on) => on && (request.value = ''))
const make = () =>
  act(async () => {
    const body = {
      names: form.names,
      key_type: form.keyType,
      organization: form.organization || undefined,
      unit: form.unit || undefined,
      locality: form.locality || undefined,
      province: form.province || undefined,
      country: form.country.toUpperCase() || undefined,
    }
    const done = await made(
      api.POST('/api/v1/accounts/{account}/domains/{domain}/certificate/requests', {
        params: {
          path: { account: props.account, domain: props.certificate.domain },
        },
        body,
      }),
    )
    request.value = done.request
    emit('done')
  }, 'make')
</script>

<template>
  <ElDialog
    v-model="open"
    :close-on-click-modal="!dirty"
    :title="$t('Signing request for {domain}', { domain: certificate.domain })"
    width="min(40rem, 94vw)"
  >
    <div v-if="request" class="stack">
      <p>
        {{
          $t(
            'Hand this to the authority. Its key stays here; install what the authority makes of it, and the two find each other.',
          )
        }}
      </p>
      <ElInput
        :model-value="request"
        type="textarea"
        :rows="12"
        readonly
        spellcheck="false"
        :aria-label="$t('Signing request')"
      />
    </div>
    <form v-else id="new-request" class="stack" @submit.prevent="make">
      <FormField :label="$t('Names')" for="request-names" :error="error('names')"
        ><ElCheckboxGroup id="request-names" v-model="form.names"
          ><ElCheckbox v-for="n in possible(certificate.domain)" :key="n" :value="n">{{
            n
          }}</ElCheckbox></ElCheckboxGroup
        ></FormField
      >
      <FormField :label="$t('Key')" for="request-key" :error="error('key_type')"
        ><ElSelect id="request-key" v-model="form.keyType"
          ><ElOption v-for="k in keyTypes" :key="k" :value="k" :label="k" /></ElSelect
      ></FormField>
      <p class="quiet">{{ $t('The rest is needed only where the authority checks an organization.') }}</p>
      <div class="pair">
        <FormField :label="$t('Organization')" for="organization" :error="error('organization')"
          ><ElInput id="organization" v-model="form.organization" maxlength="64"
        /></FormField>
        <FormField :label="$t('Unit of it')" for="unit" :error="error('unit')"
          ><ElInput id="unit" v-model="form.unit" maxlength="64"
        /></FormField>
        <FormField :label="$t('Town')" for="locality" :error="error('locality')"
          ><ElInput id="locality" v-model="form.locality" maxlength="128"
        /></FormField>
        <FormField :label="$t('Province or state')" for="province" :error="error('province')"
          ><ElInput id="province" v-model="form.province" maxlength="128"
        /></FormField>
        <FormField :label="$t('Country')" for="country" :error="error('country')" :hint="$t('Two letters, such as DE')"
          ><ElInput id="country" v-model="form.country" maxlength="2"
        /></FormField>
      </div>
      <ProblemNote :refusal="general" />
    </form>
    <template #footer>
      <template v-if="request"
        ><ElButton type="primary" @click="save(`${certificate.domain}.csr.pem`, request)">{{ $t('Download') }}</ElButton
        ><ElButton @click="open = false">{{ $t('Close') }}</ElButton></template
      >
      <template v-else
        ><ElButton @click="open = false">{{ $t('Cancel') }}</ElButton
        ><ElButton
          type="primary"
          native-type="submit"
          form="new-request"
          :disabled="!form.names.length"
          :loading="busy === 'make'"
          >{{ $t('Make key and request') }}</ElButton
        ></template
      >
    </template>
  </ElDialog>
</template>
