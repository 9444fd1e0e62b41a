<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'

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
const { form, dirty, general, error, busy, act, openWith } = useForm(
  () => ({ name: '', folder: '', password: '', key: '' }),
  shown,
)
const { refusal: acting, act: actRow } = useAct()

function begin(of?: Login) {
  login.value = of
  void openWith({ name: of?.name, folder: of?.folder })
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
    if (
      !(await confirmed(
        t('Remove the key {what} of {name}?', { what: key.comment || key.fingerprint, name: l.name }),
        t('Remove'),
      ))
    )
      return
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
    if (!(await confirmed(t('Remove the password of {name}? Only keys let in then.', { name: l.name }), t('Remove'))))
      return
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
    if (!(await confirmed(t('Remove the login {name}? Its files stay.', { name: l.name }), t('Remove')))) return
    await started(
      (await made(api.DELETE('/api/v1/accounts/{account}/logins/{login}', { params: { path: at(l) } }))).operation,
    )
  })
const columns: Column<Login>[] = [
  { key: 'name', title: t('Login') },
  {
    key: 'folder',
    title: t('Sees'),
    wide: true,
    long: true,
    text: (l) => [l.folder || t('the whole home'), l.shell && t('a shell')].filter(Boolean).join(', '),
  },
  { key: 'in', title: t('Gets in by'), long: true },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <section v-if="data">
    <div class="titled">
      <h2>
        {{ $t('File transfer') }}
        <span class="quiet">{{ $t('SFTP at {addresses}', { addresses: data.addresses[0] }) }}</span>
      </h2>
      <ElButton v-if="may" size="small" @click="begin()">{{ $t('Add a login') }}</ElButton>
    </div>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(l) => l.name" :columns="columns" :rows="data.logins" :caption="$t('Sign-ins for file transfer')">
      <template #name="{ row }"
        ><code>{{ row.name }}</code
        >{{ ' ' }}<span v-if="row.main" class="quiet">{{ $t('own') }}</span></template
      >
      <template #in="{ row }">
        <span v-if="row.password" class="way"
          >{{ $t('password')
          }}<button
            v-if="may"
            type="button"
            class="link"
            :aria-label="$t('Remove the password of {name}', { name: row.name })"
            :title="$t('Remove')"
            @click="dropPassword(row)"
          >
            ✕
          </button></span
        >
        <span v-for="k in row.keys" :key="k.fingerprint" class="way" :title="k.fingerprint"
          >{{ $t('key {what}', { what: k.comment || k.type })
          }}<button
            v-if="may"
            type="button"
            class="link"
            :aria-label="$t('Remove the key {what}', { what: k.comment || k.fingerprint })"
            :title="$t('Remove')"
            @click="dropKey(row, k)"
          >
            ✕
          </button></span
        >
        <span v-if="!row.password && !row.keys.length" class="quiet">{{ $t('nothing yet') }}</span>
      </template>
      <template #acts="{ row }"
        ><template v-if="may"
          ><button type="button" class="link" :aria-label="$t('Change {name}', { name: row.name })" @click="begin(row)">
            {{ $t('Change') }}
          </button>
          {{ ' ' }}
          <button
            v-if="!row.main"
            type="button"
            class="link"
            :aria-label="$t('Remove {name}', { name: row.name })"
            @click="remove(row)"
          >
            {{ $t('Remove') }}
          </button></template
        ></template
      >
    </DataTable>
    <FormDialog
      id="login"
      v-model="shown"
      :title="login ? $t('Change {name}', { name: login.name }) : $t('Add a login')"
      :action="login ? $t('Save login') : $t('Add login')"
      :ready="Boolean(login || form.name.trim())"
      :busy="busy === 'save'"
      :dirty="dirty"
      :refusal="general"
      @submit="save"
    >
      <FormField
        v-if="!login"
        :label="$t('Name')"
        for="login-name"
        :error="error('name')"
        :hint="$t('Signs in as {name}', { name: `${signIn}-${form.name || 'NAME'}` })"
        ><ElInput id="login-name" v-model="form.name" spellcheck="false" autocomplete="off"
      /></FormField>
      <FormField
        v-if="!login?.main"
        :label="$t('Folder')"
        for="login-folder"
        :error="error('folder')"
        :hint="$t('Below the home; empty is the whole home')"
        ><ElInput
          id="login-folder"
          v-model="form.folder"
          spellcheck="false"
          autocomplete="off"
          placeholder="sites/ferries.example"
      /></FormField>
      <FormField
        :label="login?.password ? $t('Another password') : $t('Password')"
        for="login-password"
        :error="error('password')"
        :hint="login ? $t('Left empty, it stays as it is') : $t('With a password or a key, or with either')"
        ><ElInput id="login-password" v-model="form.password" type="password" show-password autocomplete="new-password"
      /></FormField>
      <FormField
        :label="$t('Public key')"
        for="login-key"
        :error="error('key') ?? error('keys')"
        :hint="$t('The line of a file that ends in .pub')"
        ><ElInput
          id="login-key"
          v-model="form.key"
          type="textarea"
          :rows="3"
          spellcheck="false"
          placeholder="ssh-ed25519 AAAA… name"
      /></FormField>
    </FormDialog>
  </section>
</template>

<style scoped>
.way {
  margin-inline-end: 0.8rem;
  white-space: nowrap;
}
.way button {
  margin-inline-start: 0.25rem;
}
</style>
