<script setup lang="ts">
import { computed } from 'vue'
import { ElButton, ElCheckbox, ElDialog, ElInput } from 'element-plus'
import { api, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { session } from '../session/state'

/** Takes records over from a zone file, or from another name server. */
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ zone: string }>()
const emit = defineEmits<{ done: [Schemas['ZoneChanged']] }>()

const { form, dirty, preview, refusal, error, busy, act, loadPreview } = useForm(
  () => ({ text: '', server: '', replace: false }),
  open,
)

const params = computed(() => ({ path: { zone: props.zone } }))
const body = computed(() => ({
  text: form.text || undefined,
  server: form.server.trim() || undefined,
  replace: form.replace || undefined,
}))
const ready = computed(() => Boolean(body.value.text) !== Boolean(body.value.server))
const foresee = () =>
  loadPreview(() =>
    foreseen(
      api.POST('/api/v1/zones/{zone}/import', {
        params: { ...params.value, query: { preview: true } },
        body: body.value,
      }),
    ),
  )
const take = () =>
  act(async () => {
    emit(
      'done',
      await made(
        api.POST('/api/v1/zones/{zone}/import', {
          params: { ...params.value },
          body: body.value,
        }),
      ),
    )
    open.value = false
  }, 'take')
async function read(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) form.text = await file.text()
}
</script>

<template>
  <ElDialog
    v-model="open"
    :close-on-click-modal="!dirty"
    :title="$t('Take records over into {zone}', { zone })"
    width="min(46rem, 94vw)"
  >
    <FormField
      :label="$t('Zone file')"
      for="zone-text"
      :hint="$t('All of it is taken over, or nothing. SOA, the zone’s own name servers and signatures are left out.')"
    >
      <input type="file" :aria-label="$t('Choose a zone file')" @change="read" />
      <ElInput
        id="zone-text"
        v-model="form.text"
        type="textarea"
        :rows="9"
        spellcheck="false"
        :disabled="Boolean(form.server.trim())"
        placeholder="www 3600 IN A 192.0.2.7"
      />
    </FormField>
    <FormField
      v-if="session?.role !== 'customer'"
      :label="$t('Or a name server to transfer from')"
      for="zone-server"
      :error="error('server')"
      :hint="$t('It must allow this service to transfer the zone')"
    >
      <ElInput
        id="zone-server"
        v-model="form.server"
        spellcheck="false"
        autocomplete="off"
        :disabled="Boolean(form.text)"
        placeholder="ns1.provider.test"
      />
    </FormField>
    <ElCheckbox v-model="form.replace">{{ $t('take the own records there are now out first') }}</ElCheckbox>
    <ProblemNote :refusal="refusal" />
    <ul v-if="refusal?.problem.errors?.length" class="lines">
      <li v-for="e in refusal.problem.errors" :key="e.name">
        <b>{{ e.name.replace('text.line_', 'line ') }}</b> {{ e.message }}
      </li>
    </ul>
    <PreviewNote v-if="preview" :preview="preview" />
    <template #footer>
      <ElButton @click="open = false">{{ $t('Cancel') }}</ElButton>
      <ElButton :disabled="!ready" :loading="busy === 'preview'" @click="foresee">{{ $t('Preview') }}</ElButton>
      <ElButton type="primary" :disabled="!ready" :loading="busy === 'take'" @click="take">{{
        $t('Import records')
      }}</ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
.lines {
  max-height: 12rem;
  overflow: auto;
}
</style>
