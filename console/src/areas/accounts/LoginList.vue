<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'

/** Sign-ins for file transfer of an account. */
const props = defineProps<{ account: string; signIn: string; may: boolean }>()
const emit = defineEmits<{ started: [operation: number] }>()
const { data, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/logins', { params: { path: { account: props.account } } })),
  { on: () => props.account },
)

type Login = Schemas['Login']
const shown = ref(false)
/** The login that the form changes; none for one that is added. */
const login = ref<Login>()
const { form, general, error, busy, act, reset } = useForm(() => ({ name: '', folder: '', password: '', key: '' }))
const { refusal: acting, act: actRow } = useAct()

function begin(of?: Login) {
  login.value = of
  reset({ name: of?.name, folder: of?.folder })
  shown.value = true
}
const at = (l: Login) => ({ account: props.account, login: l.name })
async function started(operation: number) {
  emit('started', operation)
  await reload()
}
const save = () =>
  act(async () => {
    const keys = form.key.trim() ? [form.key.trim()] : undefined
    const l = login.value
    const done = l
      ? await made(
          api.PATCH('/api/v1/accounts/{account}/logins/{login}', {
            params: { path: at(l), header: { 'If-Match': `"${l.version}"` } },
            body: {
              folder: form.folder !== l.folder ? form.folder : undefined,
              password: form.password || undefined,
              add_keys: keys,
            },
          }),
        )
      : await made(
          api.POST('/api/v1/accounts/{account}/logins', {
            params: { path: { account: props.account } },
            body: {
              name: form.name.trim(),
              folder: form.folder || undefined,
              password: form.password || undefined,
              keys,
            },
          }),
        )
    shown.value = false
    await started(done.operation)
  }, 'save')
const dropKey = (l: Login, key: Schemas['LoginKey']) =>
  actRow(async () => {
    if (!(await confirmed(`Remove the key ${key.comment || key.fingerprint} of ${l.name}?`, 'Remove'))) return
    await started(
      (
        await made(
          api.PATCH('/api/v1/accounts/{account}/logins/{login}', {
            params: { path: at(l) },
            body: { remove_keys: [key.fingerprint] },
          }),
        )
      ).operation,
    )
  })
const dropPassword = (l: Login) =>
  actRow(async () => {
    if (!(await confirmed(`Remove the password of ${l.name}? Only keys let in then.`, 'Remove'))) return
    await started(
      (
        await made(
          api.PATCH('/api/v1/accounts/{account}/logins/{login}', { params: { path: at(l) }, body: { password: '' } }),
        )
      ).operation,
    )
  })
const remove = (l: Login) =>
  actRow(async () => {
    if (!(await confirmed(`Remove the login ${l.name}? Its files stay.`, 'Remove'))) return
    await started(
      (await made(api.DELETE('/api/v1/accounts/{account}/logins/{login}', { params: { path: at(l) } }))).operation,
    )
  })
const columns: Column<Login>[] = [
  { key: 'name', title: 'Login' },
  {
    key: 'folder',
    title: 'Sees',
    wide: true,
    long: true,
    text: (l) => (l.folder || 'the whole home') + (l.shell ? ', with a shell' : ''),
  },
  { key: 'in', title: 'Gets in by', long: true },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <section v-if="data">
    <div class="titled">
      <h2>
        File transfer <span class="quiet">SFTP at {{ data.addresses[0] }}</span>
      </h2>
      <ElButton v-if="may" size="small" @click="begin()">Add a login</ElButton>
    </div>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(l) => l.name" :columns="columns" :rows="data.logins" caption="Sign-ins for file transfer">
      <template #name="{ row }"
        ><code>{{ row.name }}</code
        ><span v-if="row.main" class="quiet"> own</span></template
      >
      <template #in="{ row }">
        <span v-if="row.password" class="way"
          >password<button
            v-if="may"
            type="button"
            class="link"
            :aria-label="`Remove the password of ${row.name}`"
            title="Remove"
            @click="dropPassword(row)"
          >
            ✕
          </button></span
        >
        <span v-for="k in row.keys" :key="k.fingerprint" class="way" :title="k.fingerprint"
          >key {{ k.comment || k.type
          }}<button
            v-if="may"
            type="button"
            class="link"
            :aria-label="`Remove the key ${k.comment || k.fingerprint}`"
            title="Remove"
            @click="dropKey(row, k)"
          >
            ✕
          </button></span
        >
        <span v-if="!row.password && !row.keys.length" class="quiet">nothing yet</span>
      </template>
      <template #acts="{ row }"
        ><template v-if="may"
          ><button type="button" class="link" :aria-label="`Change ${row.name}`" @click="begin(row)">Change</button>
          {{ ' ' }}
          <button v-if="!row.main" type="button" class="link" :aria-label="`Remove ${row.name}`" @click="remove(row)">
            Remove
          </button></template
        ></template
      >
    </DataTable>
    <ElDialog v-model="shown" :title="login ? `Change ${login.name}` : 'Add a login'" width="min(34rem, 94vw)">
      <form class="form" @submit.prevent="save">
        <FormField
          v-if="!login"
          label="Name"
          for="login-name"
          :error="error('name')"
          :hint="`Signs in as ${signIn}-${form.name || 'NAME'}`"
          ><ElInput id="login-name" v-model="form.name" spellcheck="false" autocomplete="off"
        /></FormField>
        <FormField
          v-if="!login?.main"
          label="Folder"
          for="login-folder"
          :error="error('folder')"
          hint="Below the home; empty is the whole home"
          ><ElInput
            id="login-folder"
            v-model="form.folder"
            spellcheck="false"
            autocomplete="off"
            placeholder="sites/ferries.example"
        /></FormField>
        <FormField
          :label="login?.password ? 'Another password' : 'Password'"
          for="login-password"
          :error="error('password')"
          hint="Left empty, it stays as it is"
          ><ElInput
            id="login-password"
            v-model="form.password"
            type="password"
            show-password
            autocomplete="new-password"
        /></FormField>
        <FormField
          label="Public key"
          for="login-key"
          :error="error('key') ?? error('keys')"
          hint="The line of a file that ends in .pub"
          ><ElInput
            id="login-key"
            v-model="form.key"
            type="textarea"
            :rows="3"
            spellcheck="false"
            placeholder="ssh-ed25519 AAAA… name"
        /></FormField>
        <ProblemNote :refusal="general" />
      </form>
      <template #footer
        ><ElButton @click="shown = false">Cancel</ElButton
        ><ElButton type="primary" :loading="busy === 'save'" :disabled="!login && !form.name.trim()" @click="save">{{
          login ? 'Save login' : 'Add login'
        }}</ElButton></template
      >
    </ElDialog>
  </section>
</template>

<style scoped>
.way {
  margin-right: 0.8rem;
  white-space: nowrap;
}
.way button {
  margin-left: 0.25rem;
}
</style>
