<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import DataTable from '../../parts/DataTable.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'

/** Protected folders of a site, and who may come in. */
const props = defineProps<{ domain: Schemas['DomainDetail']; may: boolean }>()
const emit = defineEmits<{ started: [operation: number] }>()

const shown = ref(false)
/** The folder that somebody may enter; none for one that is to be protected. */
const folder = ref<Schemas['Folder']>()
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({
  path: '',
  title: '',
  name: '',
  password: '',
}))
const { refusal: removing, act: actRemove } = useAct()
const at = () => ({ account: String(props.domain.account_id), domain: props.domain.name })

function ask(of?: Schemas['Folder'], name = '') {
  folder.value = of
  reset({ path: of?.path, title: of?.title, name })
  shown.value = true
}
const save = () =>
  act(async () => {
    const users = form.name ? [{ name: form.name.trim(), password: form.password }] : []
    const done = folder.value
      ? await made(
          api.PUT('/api/v1/accounts/{account}/domains/{domain}/folders/{folder}/users/{user}', {
            params: { path: { ...at(), folder: folder.value.id, user: form.name.trim() } },
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
const open = (of: Schemas['Folder']) =>
  actRemove(async () => {
    if (
      !(await confirmed(
        t('Remove the password protection of /{path}? Anybody can open it then.', { path: of.path }),
        t('Remove'),
      ))
    )
      return
    emit(
      'started',
      (
        await made(
          api.DELETE('/api/v1/accounts/{account}/domains/{domain}/folders/{folder}', {
            params: { path: { ...at(), folder: of.id } },
          }),
        )
      ).operation,
    )
  })
const shut = (of: Schemas['Folder'], user: string) =>
  actRemove(async () => {
    if (!(await confirmed(t('Remove {user} from /{path}?', { user, path: of.path }), t('Remove')))) return
    emit(
      'started',
      (
        await made(
          api.DELETE('/api/v1/accounts/{account}/domains/{domain}/folders/{folder}/users/{user}', {
            params: { path: { ...at(), folder: of.id, user } },
          }),
        )
      ).operation,
    )
  })
</script>

<template>
  <section>
    <div class="titled">
      <h2>{{ $t('Protected folders') }}</h2>
      <ElButton v-if="may" size="small" @click="ask()">{{ $t('Protect a folder') }}</ElButton>
    </div>
    <ProblemNote :refusal="removing" />
    <DataTable
      v-if="domain.protected.length"
      :id="(f) => f.id"
      :columns="[
        { key: 'path', title: $t('Folder'), text: (f) => `/${f.path}`, long: true },
        { key: 'title', title: $t('Asks as'), wide: true, long: true, text: (f) => f.title },
        { key: 'users', title: $t('Who may come in'), long: true },
        { key: 'acts', title: '', right: true, long: true },
      ]"
      :rows="domain.protected"
      :caption="$t('Protected folders')"
    >
      <template #users="{ row }">
        <span v-if="!row.users.length" class="quiet">{{ $t('▲ nobody yet') }}</span>
        <span v-for="u in row.users" :key="u" class="user"
          >{{ u
          }}<button
            v-if="may"
            type="button"
            class="link"
            :aria-label="$t('Another password for {u}', { u })"
            :title="$t('Another password')"
            @click="ask(row, u)"
          >
            ✎</button
          ><button
            v-if="may"
            type="button"
            class="link"
            :aria-label="$t('Shut {u} out', { u })"
            :title="$t('Shut out')"
            @click="shut(row, u)"
          >
            ✕
          </button></span
        >
      </template>
      <template #acts="{ row }"
        ><template v-if="may"
          ><button type="button" class="link" @click="ask(row)">{{ $t('Let in') }}</button>
          {{ ' ' }}
          <button type="button" class="link" @click="open(row)">{{ $t('Unprotect') }}</button></template
        ></template
      >
    </DataTable>
    <p v-else class="quiet">{{ $t('None: everybody sees everything of this site.') }}</p>
    <FormDialog
      id="save-folder"
      v-model="shown"
      :title="folder ? $t('Who may see /{path}', { path: folder.path }) : $t('Protect a folder')"
      :width="30"
      :action="folder ? $t('Let in') : $t('Protect folder')"
      :ready="!(folder || form.name) || Boolean(form.name.trim() && form.password.length >= 8)"
      :busy="Boolean(busy)"
      :dirty="dirty"
      :refusal="general"
      @submit="save"
    >
      <template v-if="!folder">
        <FormField
          :label="$t('Folder')"
          for="folder-path"
          :error="error('path')"
          :hint="$t('Below the document root, such as members; empty is the whole site')"
          ><ElInput id="folder-path" v-model="form.path" spellcheck="false" autocomplete="off"
        /></FormField>
        <FormField
          :label="$t('Title')"
          for="folder-title"
          :error="error('title')"
          :hint="$t('Browsers show it when they ask')"
          ><ElInput id="folder-title" v-model="form.title" :placeholder="$t('Protected')"
        /></FormField>
      </template>
      <div class="pair">
        <FormField :label="$t('Name')" for="folder-user" :error="error('name')"
          ><ElInput id="folder-user" v-model="form.name" spellcheck="false" autocomplete="off"
        /></FormField>
        <FormField
          :label="$t('Password')"
          for="folder-password"
          :error="error('password')"
          :hint="$t('8 characters or more')"
          ><ElInput
            id="folder-password"
            v-model="form.password"
            type="password"
            show-password
            autocomplete="new-password"
        /></FormField>
      </div>
    </FormDialog>
  </section>
</template>

<style scoped>
.user {
  margin-inline-end: 0.9rem;
  white-space: nowrap;
}
.user .link {
  margin-inline-start: 0.3rem;
}
</style>
