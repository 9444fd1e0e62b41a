<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'
import { engines, levels as titles } from './databases'

/** The users of an account's databases. */
const props = defineProps<{ account: string; signIn: string; list: Schemas['DatabaseList']; may: boolean }>()
const emit = defineEmits<{ started: [operation: number] }>()

type User = Schemas['DatabaseUser']
type Level = Schemas['DatabaseLevel']['level']
const shown = ref(false)
/** The user that the form changes; none for one that is added. */
const user = ref<User>()
const { form, dirty, general, error, busy, act, openWith } = useForm(
  () => ({ name: '', engine: 'mariadb', password: '', hosts: '', levels: {} as Record<string, Level | ''> }),
  shown,
)
const { refusal: acting, act: actRow } = useAct()

/** The databases that the user of the form can be given. */
const offered = () => props.list.databases.filter((d) => d.engine === (user.value?.engine ?? form.engine))
function begin(of?: User) {
  user.value = of
  void openWith({
    engine: of?.engine ?? props.list.databases[0]?.engine ?? 'mariadb',
    hosts: of?.hosts.join('\n') ?? '',
    levels: Object.fromEntries(of?.levels.map((l) => [l.database, l.level]) ?? []),
  })
}
const at = (u: User) => ({ account: props.account, user: u.name })
const save = () =>
  act(async () => {
    const u = user.value
    const before = Object.fromEntries(u?.levels.map((l) => [l.database, l.level]) ?? [])
    const levels = offered().flatMap((d) => {
      const level = form.levels[d.name]
      return level && level !== before[d.name] ? [{ database: d.name, level }] : []
    })
    const hosts = form.hosts.split(/[\s,]+/).filter(Boolean)
    const done = u
      ? await made(
          api.PATCH('/api/v1/accounts/{account}/database-users/{user}', {
            params: { path: at(u), header: { 'If-Match': `"${u.version}"` } },
            body: {
              password: form.password || undefined,
              hosts: hosts.join() === u.hosts.join() ? undefined : hosts,
              levels,
              remove: Object.keys(before).filter((name) => !form.levels[name]),
            },
          }),
        )
      : await made(
          api.POST('/api/v1/accounts/{account}/database-users', {
            params: { path: { account: props.account } },
            body: {
              name: form.name.trim(),
              engine: form.engine as User['engine'],
              password: form.password || undefined,
              hosts,
              levels,
            },
          }),
        )
    shown.value = false
    emit('started', done.operation)
  }, 'save')
const remove = (u: User) =>
  actRow(async () => {
    if (
      !(await confirmed(t('Remove the database user {name}? What it has made stays.', { name: u.name }), t('Remove')))
    )
      return
    const { operation } = await made(
      api.DELETE('/api/v1/accounts/{account}/database-users/{user}', { params: { path: at(u) } }),
    )
    emit('started', operation)
  })
const columns: Column<User>[] = [
  { key: 'name', title: t('User'), long: true },
  { key: 'engine', title: t('Engine'), wide: true, text: (u) => engines[u.engine] ?? u.engine },
  {
    key: 'levels',
    title: t('May do'),
    long: true,
    text: (u) => u.levels.map((l) => `${l.database} (${titles[l.level]})`).join(', ') || t('nothing yet'),
  },
  {
    key: 'hosts',
    title: t('Also connects from'),
    long: true,
    wide: true,
    text: (u) => u.hosts.join(', ') || t('nowhere else'),
  },
  { key: 'password', title: t('Password'), wide: true, text: (u) => (u.password ? t('set') : t('none yet')) },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <section class="users">
    <div class="titled">
      <h2>{{ $t('Database users') }}</h2>
      <ElButton v-if="may" @click="begin()">{{ $t('Add a user') }}</ElButton>
    </div>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(u) => u.name" :columns="columns" :rows="list.users" :caption="$t('Database users')">
      <template #name="{ row }"
        ><code>{{ row.name }}</code></template
      >
      <template #acts="{ row }"
        ><template v-if="may"
          ><button type="button" class="link" :aria-label="$t('Change {name}', { name: row.name })" @click="begin(row)">
            {{ $t('Change') }}
          </button>
          {{ ' ' }}
          <button type="button" class="link" :aria-label="$t('Remove {name}', { name: row.name })" @click="remove(row)">
            {{ $t('Remove') }}
          </button></template
        ></template
      >
      <template #empty
        ><div class="empty">
          <h3>{{ $t('No database user yet') }}</h3>
          <p>{{ $t('Sites sign in to databases as a user, with a password of its own.') }}</p>
        </div></template
      >
    </DataTable>
    <FormDialog
      id="database-user-form"
      v-model="shown"
      :title="user ? $t('Change {name}', { name: user.name }) : $t('Add a database user')"
      :action="user ? $t('Save') : $t('Add user')"
      :ready="Boolean(user || form.name.trim())"
      :busy="busy === 'save'"
      :dirty="dirty"
      :refusal="general"
      @submit="save"
    >
      <FormField
        v-if="!user"
        :label="$t('Name')"
        for="database-user-name"
        :error="error('name')"
        :hint="$t('It is called {name}', { name: `${signIn}_${form.name.trim() || 'NAME'}` })"
        ><ElInput id="database-user-name" v-model="form.name" spellcheck="false" autocomplete="off"
      /></FormField>
      <FormField v-if="!user" :label="$t('Engine')" for="database-user-engine" :error="error('engine')">
        <ElSelect id="database-user-engine" v-model="form.engine">
          <ElOption v-for="(title, engine) in engines" :key="engine" :value="engine" :label="title" />
        </ElSelect>
      </FormField>
      <NewPassword
        id="database-user-password"
        v-model="form.password"
        :label="user?.password ? $t('Another password') : $t('Password')"
        :about="[form.name, user?.name ?? '']"
        :error="error('password')"
      />
      <p v-if="user?.password" class="quiet">
        {{ $t('Left empty, it stays as it is; another one has to be put into the sites that use it.') }}
      </p>
      <FormField v-for="d in offered()" :key="d.name" :label="d.name" :for="`level-${d.name}`" :error="error('levels')">
        <ElSelect :id="`level-${d.name}`" v-model="form.levels[d.name]" clearable :placeholder="$t('nothing')">
          <ElOption v-for="(title, level) in titles" :key="level" :value="level" :label="title" />
        </ElSelect>
      </FormField>
      <FormField
        :label="$t('Also connects from')"
        for="database-user-hosts"
        :error="error('hosts')"
        :hint="$t('Addresses and networks, such as 192.0.2.7, one in a line; with TLS. The account’s sites always may')"
        ><ElInput
          id="database-user-hosts"
          v-model="form.hosts"
          type="textarea"
          :autosize="{ minRows: 1, maxRows: 8 }"
          spellcheck="false"
      /></FormField>
    </FormDialog>
  </section>
</template>

<style scoped>
.users {
  margin-top: 1.8rem;
}
</style>
