<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask, made, Refusal } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { useUnsaved } from '../../composables/useUnsaved'
import { session } from '../session/state'
import NameServers from './NameServers.vue'
import FormField from '../../parts/FormField.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

const props = defineProps<{ reseller: string }>()
const path = computed(() => ({ reseller: props.reseller }))
const {
  data,
  refusal: missing,
  outdated,
  reload,
  showLatest,
} = useLoad(() => ask(api.GET('/api/v1/resellers/{reseller}/brand', { params: { path: path.value } })), {
  on: path,
  live: true,
  editing: () => dirty.value,
})
const { data: whole } = useLoad(() => ask(api.GET('/api/v1/resellers/{reseller}', { params: { path: path.value } })))
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({
  title: '',
  footer: '',
  bar: '',
  accent: '',
  sender_name: '',
  sender: '',
}))
useUnsaved(() => dirty.value)
const logo = ref(0)
const wrongLogo = ref('')
watch(
  data,
  (b) =>
    b &&
    reset({
      title: b.title ?? '',
      footer: b.footer ?? '',
      bar: b.bar ?? '',
      accent: b.accent ?? '',
      sender_name: b.sender_name ?? '',
      sender: b.sender ?? '',
    }),
)

async function again() {
  await reload()
  logo.value++
  if (session.value?.brand) session.value = await ask(api.GET('/api/v1/session'))
}
const save = () =>
  act(async () => {
    data.value = await made(
      api.PUT('/api/v1/resellers/{reseller}/brand', {
        params: { path: path.value, header: { 'If-Match': `"${data.value?.version}"` } },
        body: { ...form },
      }),
    )
    await again()
  }, 'save')
async function upload(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  wrongLogo.value = ''
  try {
    await ask(
      api.PUT('/api/v1/resellers/{reseller}/brand/logo', {
        params: { path: path.value },
        body: file as unknown as string,
        bodySerializer: (b) => b as unknown as BodyInit,
        headers: { 'Content-Type': 'application/octet-stream' },
      }),
    )
    await again()
  } catch (err) {
    if (!(err instanceof Refusal)) throw err
    wrongLogo.value = err.message
  }
  ;(event.target as HTMLInputElement).value = ''
}
const removeLogo = () =>
  act(async () => {
    await ask(api.DELETE('/api/v1/resellers/{reseller}/brand/logo', { params: { path: path.value } }))
    await again()
  }, 'logo')
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" :to="`/resellers/${reseller}`" :label="$t('Back')" />
  <template v-if="data">
    <PageHead :title="$t('Brand')" :about="$t('How your customers see the console and their notices')"
      ><template #above
        ><RouterLink :to="`/resellers/${reseller}`">{{ reseller }}</RouterLink></template
      ></PageHead
    >
    <div class="halves">
      <form class="form" @submit.prevent="save">
        <FormField :label="$t('Title')" for="title" :hint="$t(`Stands where the installation's does`)"
          ><ElInput id="title" v-model="form.title" maxlength="60"
        /></FormField>
        <FormField :label="$t('Footer')" for="footer" :hint="$t('Below each page and each notice')"
          ><ElInput id="footer" v-model="form.footer" maxlength="300"
        /></FormField>
        <div class="pair">
          <FormField :label="$t('Colour of the bar')" for="bar" :error="error('bar')"
            ><span class="colour"
              ><ElInput id="bar" v-model="form.bar" placeholder="#1e2a2b" spellcheck="false" /><input
                v-model="form.bar"
                type="color"
                :aria-label="$t('Pick the colour of the bar')" /></span
          ></FormField>
          <FormField :label="$t('Colour of links and buttons')" for="accent" :error="error('accent')"
            ><span class="colour"
              ><ElInput id="accent" v-model="form.accent" placeholder="#96380f" spellcheck="false" /><input
                v-model="form.accent"
                type="color"
                :aria-label="$t('Pick the colour of links and buttons')" /></span
          ></FormField>
        </div>
        <div class="pair">
          <FormField :label="$t('Sender of notices')" for="sender-name"
            ><ElInput id="sender-name" v-model="form.sender_name" maxlength="100"
          /></FormField>
          <FormField :label="$t(`Sender's address`)" for="sender" :error="error('sender')"
            ><ElInput id="sender" v-model="form.sender" type="email"
          /></FormField>
        </div>
        <OutdatedNote v-if="outdated" @show="showLatest" />
        <ProblemNote :refusal="general" />
        <div class="acts">
          <ElButton native-type="submit" type="primary" :loading="busy === 'save'">{{ $t('Save brand') }}</ElButton>
        </div>
      </form>
      <div>
        <h2>{{ $t('Logo') }}</h2>
        <p v-if="data.logo" class="logo"><img :src="`${data.logo}?${logo}`" :alt="$t('The logo as it is')" /></p>
        <p v-else class="quiet">{{ $t('There is none; the title is shown instead.') }}</p>
        <FormField
          :label="$t('Another one')"
          for="logo"
          :error="wrongLogo"
          :hint="$t('PNG, WebP or SVG, at most 256 KiB. An SVG is written anew from what is harmless.')"
        >
          <input id="logo" type="file" accept="image/png,image/webp,image/svg+xml" @change="upload" />
        </FormField>
        <div v-if="data.logo" class="acts away">
          <ElButton :loading="busy === 'logo'" @click="removeLogo">{{ $t('Remove the logo') }}</ElButton>
        </div>
        <NameServers v-if="whole" :reseller="reseller" :names="whole.name_servers" />
      </div>
    </div>
  </template>
</template>

<style scoped>
.away {
  margin-top: 0.8rem;
}
.colour {
  display: flex;
  gap: 0.4rem;
}
.logo {
  display: inline-block;
  padding: 0.6rem 1rem;
  background: var(--ink-bar);
}
.logo img {
  display: block;
  height: 48px;
  max-width: 20rem;
  object-fit: contain;
}
input[type='color'] {
  flex: none;
  width: 2.6rem;
  height: 32px;
  padding: 2px;
  background: var(--sheet);
  border: 1px solid var(--line);
}
input[type='file']::file-selector-button {
  margin-inline-end: 0.7rem;
  padding: 0.35rem 0.9rem;
  font: inherit;
  font-weight: 550;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 2px;
}
</style>
