<script setup lang="ts">
import { reactive, ref, watch } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import DataTable from '../../parts/DataTable.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'

/** Protected folders of a site, and who may come in. */
const props = defineProps<{ domain: Schemas['DomainDetail']; may: boolean }>()
const emit = defineEmits<{ started: [operation: number] }>()

const shown = ref(false)
const form = reactive({
  folder: undefined as Schemas['Folder'] | undefined,
  path: '',
  title: '',
  name: '',
  password: '',
})
const { refusal, busy, act } = useAct()
const { refusal: removing, act: actRemove } = useAct()
watch(shown, () => (refusal.value = undefined))
const at = () => ({ account: String(props.domain.account_id), domain: props.domain.name })

function ask(folder?: Schemas['Folder'], name = '') {
  Object.assign(form, { folder, path: folder?.path ?? '', title: folder?.title ?? '', name, password: '' })
  shown.value = true
}
const keep = () =>
  act(async () => {
    const users = form.name ? [{ name: form.name.trim(), password: form.password }] : []
    const done = form.folder
      ? await made(
          api.PUT('/api/v1/accounts/{account}/domains/{domain}/folders/{folder}/users/{user}', {
            params: { path: { ...at(), folder: form.folder.id, user: form.name.trim() } },
            body: { password: form.password },
          }),
        )
      : await made(
          api.POST('/api/v1/accounts/{account}/domains/{domain}/folders', {
            params: { path: at() },
            body: { path: form.path, title: form.title || undefined, users },
          }),
        )
    shown.value = false
    emit('started', done.operation)
  })
const open = (folder: Schemas['Folder']) =>
  actRemove(async () => {
    if (!(await confirmed(`Remove the password protection of /${folder.path}? Anybody can open it then.`, 'Remove')))
      return
    emit(
      'started',
      (
        await made(
          api.DELETE('/api/v1/accounts/{account}/domains/{domain}/folders/{folder}', {
            params: { path: { ...at(), folder: folder.id } },
          }),
        )
      ).operation,
    )
  })
const shut = (folder: Schemas['Folder'], user: string) =>
  actRemove(async () => {
    if (!(await confirmed(`Remove ${user} from /${folder.path}?`, 'Remove'))) return
    emit(
      'started',
      (
        await made(
          api.DELETE('/api/v1/accounts/{account}/domains/{domain}/folders/{folder}/users/{user}', {
            params: { path: { ...at(), folder: folder.id, user } },
          }),
        )
      ).operation,
    )
  })
</script>

<template>
  <section>
    <div class="titled">
      <h2>Protected folders</h2>
      <ElButton v-if="may" size="small" @click="ask()">Protect a folder</ElButton>
    </div>
    <ProblemNote :refusal="removing" />
    <DataTable
      v-if="domain.protected.length"
      :id="(f) => f.id"
      :columns="[
        { key: 'path', title: 'Folder', text: (f) => `/${f.path}` },
        { key: 'title', title: 'Asks as', wide: true, text: (f) => f.title },
        { key: 'users', title: 'Who may come in', long: true },
        { key: 'acts', title: '', right: true },
      ]"
      :rows="domain.protected"
      caption="Protected folders"
    >
      <template #users="{ row }">
        <span v-if="!row.users.length" class="quiet">▲ nobody yet</span>
        <span v-for="u in row.users" :key="u" class="user"
          >{{ u
          }}<button
            v-if="may"
            type="button"
            class="link"
            :aria-label="`Another password for ${u}`"
            title="Another password"
            @click="ask(row, u)"
          >
            ✎</button
          ><button
            v-if="may"
            type="button"
            class="link"
            :aria-label="`Shut ${u} out`"
            title="Shut out"
            @click="shut(row, u)"
          >
            ✕
          </button></span
        >
      </template>
      <template #acts="{ row }"
        ><template v-if="may"
          ><button type="button" class="link" @click="ask(row)">Let in</button>
          {{ ' ' }}
          <button type="button" class="link" @click="open(row)">Unprotect</button></template
        ></template
      >
    </DataTable>
    <p v-else class="quiet">None: everybody sees everything of this site.</p>
    <ElDialog
      v-model="shown"
      :title="form.folder ? `Who may see /${form.folder.path}` : 'Protect a folder'"
      width="min(30rem, 94vw)"
    >
      <form id="keep-folder" class="stack" @submit.prevent="keep">
        <template v-if="!form.folder">
          <FormField
            label="Folder"
            for="folder-path"
            :error="refusal?.field('path')"
            hint="Below the document root, such as members; empty is the whole site"
            ><ElInput id="folder-path" v-model="form.path" spellcheck="false" autocomplete="off"
          /></FormField>
          <FormField
            label="Title"
            for="folder-title"
            :error="refusal?.field('title')"
            hint="Browsers show it when they ask"
            ><ElInput id="folder-title" v-model="form.title" placeholder="Protected"
          /></FormField>
        </template>
        <div class="pair">
          <FormField label="Name" for="folder-user" :error="refusal?.field('name')"
            ><ElInput id="folder-user" v-model="form.name" spellcheck="false" autocomplete="off"
          /></FormField>
          <FormField
            label="Password"
            for="folder-password"
            :error="refusal?.field('password')"
            hint="8 characters or more"
            ><ElInput
              id="folder-password"
              v-model="form.password"
              type="password"
              show-password
              autocomplete="new-password"
          /></FormField>
        </div>
        <ProblemNote :refusal="refusal?.problem.errors?.length ? undefined : refusal" />
      </form>
      <template #footer>
        <ElButton @click="shown = false">Cancel</ElButton>
        <ElButton
          type="primary"
          native-type="submit"
          form="keep-folder"
          :disabled="Boolean(form.folder || form.name) && (!form.name.trim() || form.password.length < 8)"
          :loading="Boolean(busy)"
          >{{ form.folder ? 'Let in' : 'Protect folder' }}</ElButton
        >
      </template>
    </ElDialog>
  </section>
</template>

<style scoped>
.user {
  margin-right: 0.9rem;
  white-space: nowrap;
}
.user .link {
  margin-left: 0.3rem;
}
</style>
