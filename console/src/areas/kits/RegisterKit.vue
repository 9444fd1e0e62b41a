<script setup lang="ts">
import { ElButton } from 'element-plus'
import { api, foreseen, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import { digestOf, inBase64 } from './archive'

/** Registers a version of a kit from an archive. */
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [Schemas['Kit']] }>()
const { form, dirty, preview, general, error, busy, act, loadPreview } = useForm(
  () => ({ archive: undefined as File | undefined, name: '', signature: '' }),
  open,
)

function choose(event: Event) {
  form.archive = (event.target as HTMLInputElement).files?.[0]
  form.name = form.archive ? `${form.archive.name} ${form.archive.size} ${form.archive.lastModified}` : ''
}
async function sign(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  form.signature = file ? inBase64(await file.arrayBuffer()) : ''
}
async function call(foresee: boolean) {
  const archive = form.archive!
  return api.PUT('/api/v1/kit-archives/{digest}', {
    params: {
      path: { digest: await digestOf(archive) },
      query: { preview: foresee },
      header: { 'Kit-Signature': form.signature || undefined },
    },
    headers: { 'Content-Type': 'application/octet-stream' },
    body: archive as unknown as string,
    bodySerializer: (body: unknown) => body as Blob,
  })
}
const foresee = () => loadPreview(() => foreseen(call(true)))
const register = () =>
  act(async () => {
    emit('done', await made(call(false)))
    open.value = false
  }, 'register')
</script>

<template>
  <FormDialog
    id="register"
    v-model="open"
    :title="$t('Register a kit')"
    :action="$t('Register')"
    :ready="!!form.archive"
    :busy="busy === 'register'"
    :dirty="dirty"
    :refusal="general"
    @submit="register"
  >
    <FormField
      :label="$t('Archive')"
      for="kit-archive"
      :error="error('archive')"
      :hint="$t('A kit’s directory packed with tar, as victualler kit pack writes it. It says which version it is.')"
    >
      <input id="kit-archive" type="file" accept=".tar,.gz,.tgz" @change="choose" />
    </FormField>
    <FormField
      :label="$t('Signature')"
      for="kit-signature"
      :error="error('signature')"
      :hint="$t('What minisign or ssh-keygen has written for the archive, where the settings have keys for kits')"
    >
      <input id="kit-signature" type="file" accept=".minisig,.sig" @change="sign" />
    </FormField>
    <PreviewNote v-if="preview" :preview="preview" />
    <template #acts>
      <ElButton :disabled="!form.archive" :loading="busy === 'preview'" @click="foresee">{{ $t('Preview') }}</ElButton>
    </template>
  </FormDialog>
</template>
