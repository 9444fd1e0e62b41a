<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElCheckboxGroup, ElOption, ElRadio, ElRadioGroup, ElSelect } from 'element-plus'
import { api, ask, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import FormField from '../../parts/FormField.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may as mayDo } from '../session/state'
import { keyTypes, possible } from './names'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'

/** How a site comes by its certificate. */
const props = defineProps<{ certificate: Schemas['SiteCertificate']; account: string; may: boolean }>()
const emit = defineEmits<{ done: [] }>()
const { data: authorities } = useLoad(async () =>
  mayDo('authorities.read') ? await ask(api.GET('/api/v1/authorities')) : undefined,
)

type Mode = 'automatic' | 'uploaded' | 'self-signed'
const fresh = (c: Schemas['SiteCertificate']) => ({
  mode: c.mode as Mode,
  chosen: c.chosen,
  names: [...c.names],
  keyType: c.key_type,
  pin: c.pin_key,
  authority: c.authority ?? '',
})
/** What the form began with. The page is about more, and follows it while something is typed here. */
const began = shallowRef(props.certificate)
const { form, dirty, preview, general, error, busy, act, loadPreview, reset } = useForm(() => fresh(began.value))
const outdated = computed(() => props.certificate.version > began.value.version)
function showLatest() {
  began.value = props.certificate
  reset()
}
watch([() => props.certificate, dirty], () => outdated.value && !dirty.value && showLatest())
const body = computed<Schemas['CertificateChange']>(() => {
  const now = fresh(began.value)
  const f = form
  const names = f.chosen ? f.names : []
  return {
    mode: f.mode !== now.mode && f.mode !== 'uploaded' ? f.mode : undefined,
    names: f.chosen !== now.chosen || (f.chosen && names.join() !== now.names.join()) ? names : undefined,
    key_type: f.keyType !== now.keyType ? f.keyType : undefined,
    pin_key: f.pin !== now.pin ? f.pin : undefined,
    authority: f.authority !== now.authority ? f.authority : undefined,
  }
})
const changes = computed(() => Object.values(body.value).filter((v) => v !== undefined).length)
const params = computed(() => ({
  path: { account: props.account, domain: props.certificate.domain },
  header: { 'If-Match': `"${began.value.version}"` },
}))
const foresee = () =>
  loadPreview(() =>
    foreseen(
      api.PATCH('/api/v1/accounts/{account}/domains/{domain}/certificate', {
        params: { ...params.value, query: { preview: true } },
        body: body.value,
      }),
    ),
  )
const save = () =>
  act(async () => {
    if (
      body.value.mode === 'self-signed' &&
      props.certificate.covered.length &&
      !(await confirmed(t('Show visitors a self-signed certificate, which browsers warn of?'), t('Use self-signed')))
    )
      return
    const done = await made(
      api.PATCH('/api/v1/accounts/{account}/domains/{domain}/certificate', { params: params.value, body: body.value }),
    )
    began.value = done.certificate
    reset()
    emit('done')
  }, 'save')
</script>

<template>
  <section class="stack">
    <h2 id="coming">{{ $t('Source') }}</h2>
    <ElRadioGroup v-model="form.mode" aria-labelledby="coming" class="modes" :disabled="!may">
      <ElRadio value="automatic">{{ $t('automatic: from an authority, renewed in time') }}</ElRadio>
      <ElRadio v-if="certificate.mode === 'uploaded'" value="uploaded">{{
        $t('installed by hand; an authority’s follows on its last day if no other is installed')
      }}</ElRadio>
      <ElRadio value="self-signed">{{ $t('self-signed by its server: browsers warn') }}</ElRadio>
    </ElRadioGroup>
    <template v-if="form.mode === 'automatic'">
      <FormField
        :label="$t('Names')"
        for="names"
        :error="error('names')"
        :hint="$t('Chosen names are proved by DNS where they do not lead here')"
      >
        <ElCheckbox
          id="names"
          :model-value="!form.chosen"
          :disabled="!may"
          @update:model-value="form.chosen = !$event"
          >{{ $t('all of the site that lead here') }}</ElCheckbox
        >
        <ElCheckboxGroup
          v-if="form.chosen"
          v-model="form.names"
          class="names"
          :disabled="!may"
          :aria-label="$t('Names')"
          ><ElCheckbox v-for="n in possible(certificate.domain)" :key="n" :value="n">{{
            n
          }}</ElCheckbox></ElCheckboxGroup
        >
      </FormField>
      <div class="pair">
        <FormField :label="$t('Key')" for="key-type" :error="error('key_type')">
          <ElSelect id="key-type" v-model="form.keyType" :disabled="!may"
            ><ElOption v-for="k in keyTypes" :key="k" :value="k" :label="k"
          /></ElSelect>
          <ElCheckbox v-model="form.pin" :disabled="!may">{{ $t('the same one at each renewal') }}</ElCheckbox>
        </FormField>
        <FormField
          v-if="authorities?.authorities.length"
          :label="$t('Authority')"
          for="authority"
          :error="error('authority')"
        >
          <ElSelect id="authority" v-model="form.authority" :disabled="!may"
            ><ElOption
              v-for="a in authorities.authorities"
              :key="a.name"
              :value="a.name"
              :label="a.usual ? $t('{name} (the usual one)', { name: a.name }) : a.name"
          /></ElSelect>
        </FormField>
      </div>
    </template>
    <OutdatedNote v-if="outdated" @show="showLatest" />
    <ProblemNote :refusal="general" />
    <PreviewNote v-if="preview" :preview="preview" />
    <div v-if="may && changes" class="acts">
      <ElButton type="primary" :disabled="form.chosen && !form.names.length" :loading="busy === 'save'" @click="save">{{
        $t('Save {n} change | Save {n} changes', { n: changes })
      }}</ElButton>
      <ElButton :loading="busy === 'preview'" @click="foresee">{{ $t('Preview') }}</ElButton>
      <ElButton @click="showLatest">{{ $t('Cancel') }}</ElButton>
    </div>
  </section>
</template>

<style scoped>
.stack {
  gap: 0.5rem;
  align-content: start;
}
.pair {
  align-items: start;
}
.modes,
.names {
  display: grid;
  justify-items: start;
}
</style>
