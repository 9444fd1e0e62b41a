<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FillBar from '../../parts/FillBar.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StripFact from '../../parts/StripFact.vue'
import { confirmed } from '../../parts/confirm'
import { amount } from '../../words'
import { may } from '../session/state'
import DatabaseConnection from './DatabaseConnection.vue'
import DatabaseUsers from './DatabaseUsers.vue'
import { engines, levels } from './databases'
import { useAccount } from './useAccount'
import { t } from '../../language'

/** The databases of an account. */
const { name, data: account, open, after } = useAccount()
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/databases', { params: { path: { account: name.value } } })),
  { on: name, live: true, every: 10_000 },
)
const has = computed(() => account.value?.features.some((f) => f.feature === 'databases' && f.on))
const change = computed(() => open.value && may('databases.change') && has.value)

type Database = Schemas['Database']
const shown = ref(false)
const { form, dirty, general, error, busy, act, openWith } = useForm(
  () => ({ name: '', engine: 'mariadb', collation: '', user: '', password: '' }),
  shown,
)
const { refusal: acting, act: actRow } = useAct()
/** The database whose connection lines are shown, by its name: it may change meanwhile. */
const looking = ref('')
const looked = computed(() => data.value?.databases.find((d) => d.name === looking.value))

const signIn = computed(() => account.value?.sign_in_name ?? '')
const whole = (typed: string) => (typed.startsWith(`${signIn.value}_`) ? typed : `${signIn.value}_${typed}`)
/** Whether the user that is typed is there already: then it keeps its password. */
const known = computed(() => data.value?.users.some((u) => u.name === whole(form.user.trim().toLowerCase())))
async function done(operation: number) {
  shown.value = false
  after(operation)
  await reload()
}
const add = () =>
  act(async () => {
    const outcome = await made(
      api.POST('/api/v1/accounts/{account}/databases', {
        params: { path: { account: name.value } },
        body: {
          name: form.name.trim(),
          engine: form.engine as Database['engine'],
          collation: form.collation.trim() || undefined,
          user: form.user.trim() || undefined,
          password: known.value ? undefined : form.password || undefined,
        },
      }),
    )
    await done(outcome.operation)
  }, 'save')
const remove = (d: Database) =>
  actRow(async () => {
    if (
      !(await confirmed(
        t('Remove the database {name} with everything in it? Nothing brings it back.', { name: d.name }),
        t('Remove'),
      ))
    )
      return
    const { operation } = await made(
      api.DELETE('/api/v1/accounts/{account}/databases/{database}', {
        params: { path: { account: name.value, database: d.name } },
      }),
    )
    await done(operation)
  })
/** Why nothing can be added, if so. */
const full = computed(() => account.value?.warnings.find((w) => w.code === 'databases-full'))
const columns: Column<Database>[] = [
  { key: 'name', title: t('Database'), long: true },
  { key: 'engine', title: t('Engine'), wide: true, text: (d) => engines[d.engine] ?? d.engine },
  { key: 'size', title: t('Size'), right: true, text: (d) => (d.size == null ? '–' : amount(d.size, 'bytes')) },
  {
    key: 'users',
    title: t('Used by'),
    long: true,
    wide: true,
    text: (d) => d.users.map((u) => `${u.user} (${levels[u.level]})`).join(', ') || t('nobody yet'),
  },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <ProblemNote :refusal="refusal" />
  <template v-if="data && account">
    <div v-if="full" class="stopped" role="status">
      <strong>{{ full.what }}</strong> {{ full.seen }} {{ full.mend }}
    </div>
    <div class="titled">
      <h2>{{ $t('Databases') }}</h2>
      <ElButton v-if="change" type="primary" @click="openWith()">{{ $t('Add a database') }}</ElButton>
    </div>
    <p v-if="!has" class="quiet">{{ $t('Databases are not part of what this account may use.') }}</p>
    <FactStrip v-if="data.databases.length">
      <StripFact :name="$t('All databases hold')"
        ><FillBar :used="data.used" :of="data.limit" unit="bytes" :what="$t('All databases hold')"
      /></StripFact>
      <StripFact v-for="e in data.engines" :key="e.engine" :name="e.title">
        <span
          ><code>{{ e.socket ? 'localhost' : `${e.host}:${e.port}` }}</code
          >{{ ' '
          }}<span class="quiet">{{
            e.socket ? $t('for the account’s sites') : $t('for the account’s sites, with TLS')
          }}</span></span
        >
        <span v-if="e.placement" class="quiet">{{
          $t('on {server}: {why}', { server: e.server, why: e.placement })
        }}</span>
      </StripFact>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(d) => d.name" :columns="columns" :rows="data.databases" :caption="$t('Databases')">
      <template #name="{ row }"
        ><code>{{ row.name }}</code></template
      >
      <template #acts="{ row }"
        ><template v-if="may('databases.contents')"
          ><RouterLink
            :to="`/accounts/${name}/databases/${row.name}`"
            :aria-label="$t('Contents of {name}', { name: row.name })"
            >{{ $t('Contents') }}</RouterLink
          >{{ ' ' }}</template
        ><button
          type="button"
          class="link"
          :aria-label="$t('Connect with {name}', { name: row.name })"
          @click="looking = row.name"
        >
          {{ $t('Connect') }}</button
        ><template v-if="change"
          >{{ ' '
          }}<button
            type="button"
            class="link"
            :aria-label="$t('Remove {name}', { name: row.name })"
            @click="remove(row)"
          >
            {{ $t('Remove') }}
          </button></template
        ></template
      >
      <template #empty
        ><div class="empty">
          <h3>{{ $t('No database yet') }}</h3>
          <p>{{ $t('Sites keep in it what visitors and editors write: entries, orders, sessions.') }}</p>
        </div></template
      >
    </DataTable>
    <DatabaseUsers
      v-if="data.databases.length || data.users.length"
      :account="name"
      :sign-in="signIn"
      :list="data"
      :may="Boolean(change)"
      @started="done"
    />
    <DatabaseConnection v-if="looked" :database="looked" @closed="looking = ''" />
    <FormDialog
      id="database"
      v-model="shown"
      :title="$t('Add a database')"
      :action="$t('Add database')"
      :ready="!!form.name.trim()"
      :busy="busy === 'save'"
      :dirty="dirty"
      :refusal="general"
      @submit="add"
    >
      <FormField
        :label="$t('Name')"
        for="database-name"
        :error="error('name')"
        :hint="$t('It is called {name}', { name: whole(form.name.trim() || 'NAME') })"
        ><ElInput id="database-name" v-model="form.name" spellcheck="false" autocomplete="off"
      /></FormField>
      <FormField :label="$t('Engine')" for="database-engine" :error="error('engine')">
        <ElSelect id="database-engine" v-model="form.engine">
          <ElOption v-for="(title, engine) in engines" :key="engine" :value="engine" :label="title" />
        </ElSelect>
      </FormField>
      <FormField
        :label="$t('User')"
        for="database-user"
        :error="error('user')"
        :hint="
          known
            ? $t('{name} is there and keeps its password; it may do everything with the database', {
                name: whole(form.user.trim().toLowerCase()),
              })
            : $t('A user that may do everything with it; empty is nobody yet')
        "
        ><ElInput id="database-user" v-model="form.user" spellcheck="false" autocomplete="off"
      /></FormField>
      <NewPassword
        v-if="form.user.trim() && !known"
        id="database-password"
        v-model="form.password"
        :label="$t('Password')"
        :about="[form.user]"
        :error="error('password')"
      />
      <FormField
        :label="$t('Collation')"
        for="database-collation"
        :error="error('collation') ?? error('charset')"
        :hint="
          form.engine === 'mariadb'
            ? $t('How texts are sorted, such as utf8mb4_german2_ci; empty is right for most languages')
            : $t('The language by which texts are sorted, such as de; empty is right for most languages')
        "
        ><ElInput id="database-collation" v-model="form.collation" spellcheck="false" autocomplete="off"
      /></FormField>
    </FormDialog>
  </template>
</template>

<style scoped>
.stopped {
  padding: 0.7rem 0.9rem;
  margin-bottom: 1.2rem;
  background: var(--sheet);
  border-inline-start: 3px solid var(--signal);
}
</style>
