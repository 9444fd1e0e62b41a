<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { ElButton, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { amount } from '../../words'
import { t } from '../../language'
import DatabaseActivity from './DatabaseActivity.vue'
import DatabaseImports from './DatabaseImports.vue'
import ResultTable from './ResultTable.vue'
import { useAccount } from './useAccount'

/** What is in a database: its tables, their rows, and one statement at a time. */
const props = defineProps<{ database: string }>()
const { name } = useAccount()
const at = computed(() => ({ account: name.value, database: props.database }))
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/databases/{database}/tables', { params: { path: at.value } })),
  { on: at },
)

type Table = Schemas['DatabaseTable']
const columns: Column<Table>[] = [
  { key: 'name', title: t('Table'), long: true },
  { key: 'rows', title: t('Rows, about'), right: true, text: (r) => (r.rows == null ? '–' : amount(r.rows, 'count')) },
  { key: 'size', title: t('Size'), right: true, text: (r) => amount(r.size, 'bytes') },
]

const route = useRoute()
const router = useRouter()
/** How many rows a page has. */
const pageRows = 50
const table = ref('')
const offset = ref(0)
const structure = ref<Schemas['TableStructure']>()
const page = ref<Schemas['StatementResult']>()
const { refusal: looking, act: look } = useAct()
const turn = (to: string, behind: number) =>
  look(async () => {
    const query = { table: to }
    const [made, rows] = await Promise.all([
      to === table.value && structure.value
        ? structure.value
        : ask(
            api.GET('/api/v1/accounts/{account}/databases/{database}/structure', {
              params: { path: at.value, query },
            }),
          ),
      ask(
        api.GET('/api/v1/accounts/{account}/databases/{database}/rows', {
          params: { path: at.value, query: { ...query, offset: behind, rows: pageRows } },
        }),
      ),
    ])
    table.value = to
    offset.value = behind
    structure.value = made
    page.value = rows
    await router.replace({ query: { table: to } }) // so that it can be sent to somebody
  })
watch(
  at,
  () => {
    table.value = ''
    page.value = structure.value = undefined
    if (typeof route.query.table === 'string') void turn(route.query.table, 0)
  },
  { immediate: true },
)

const statement = ref('')
const result = ref<Schemas['StatementResult']>()
const { refusal: failed, busy, act: run } = useAct()
const execute = () =>
  run(async () => {
    result.value = undefined
    result.value = await made(
      api.POST('/api/v1/accounts/{account}/databases/{database}/statements', {
        params: { path: at.value },
        body: { statement: statement.value },
      }),
    )
    await reload() // it may have made a table
  }, 'execute')
</script>

<template>
  <div class="titled">
    <h2>
      <RouterLink :to="`/accounts/${name}/databases`">{{ $t('Databases') }}</RouterLink> /
      <code>{{ database }}</code>
    </h2>
  </div>
  <ProblemNote :refusal="refusal" />
  <template v-if="data">
    <p class="quiet">{{ $t('As {user} sees it.', { user: data.user }) }}</p>
    <DataTable :id="(r) => r.name" :columns="columns" :rows="data.tables ?? []" :caption="$t('Tables')">
      <template #name="{ row }"
        ><button type="button" class="link" @click="turn(row.name, 0)">
          <code>{{ row.name }}</code></button
        >{{ ' ' }}<span v-if="row.view" class="quiet">{{ $t('view') }}</span></template
      >
      <template #empty
        ><div class="empty">
          <h3>{{ $t('No tables yet') }}</h3>
          <p>{{ $t('A program makes them, or a file that is imported.') }}</p>
        </div></template
      >
    </DataTable>
    <ProblemNote :refusal="looking" />
    <section v-if="page && structure" class="rows">
      <h3>
        <code>{{ table }}</code>
      </h3>
      <p class="made">
        <span v-for="c in structure.columns" :key="c.name"
          ><code>{{ c.name }}</code> <span class="quiet">{{ c.type }}</span></span
        >
      </p>
      <p v-if="structure.indexes?.length" class="made">
        <span v-for="i in structure.indexes" :key="i.name"
          ><span class="quiet">{{ i.primary ? $t('primary key') : i.unique ? $t('unique index') : $t('index') }}</span
          >{{ ' ' }}<code>{{ i.columns?.join(', ') }}</code></span
        >
      </p>
      <ResultTable :result="{ ...page, more: false }" :caption="$t('Rows of {table}', { table })" />
      <p>
        <ElButton size="small" :disabled="offset === 0" @click="turn(table, Math.max(0, offset - pageRows))">{{
          $t('Earlier')
        }}</ElButton>
        <span class="quiet">{{
          $t('rows {from} to {to}', { from: offset + 1, to: offset + (page.rows?.length ?? 0) })
        }}</span>
        {{ ' '
        }}<ElButton size="small" :disabled="!page.more" @click="turn(table, offset + pageRows)">{{
          $t('Later')
        }}</ElButton>
      </p>
    </section>
    <h3>
      <label for="statement">{{ $t('Statement') }}</label>
    </h3>
    <form class="statement" @submit.prevent="execute" @keydown.ctrl.enter.prevent="execute">
      <ElInput
        id="statement"
        v-model="statement"
        type="textarea"
        :rows="4"
        spellcheck="false"
        :placeholder="$t('One statement of SQL')"
      />
      <p>
        <ElButton
          type="primary"
          native-type="submit"
          :loading="busy === 'execute'"
          :disabled="!statement.trim() || Boolean(busy)"
          >{{ $t('Execute') }}</ElButton
        >
        {{ ' ' }}<span class="quiet">{{ $t('Ctrl-Enter; half a minute and 100 rows at most. It is recorded.') }}</span>
      </p>
    </form>
    <ProblemNote :refusal="failed" />
    <ResultTable v-if="result" :result="result" :caption="$t('Result')" />
    <DatabaseActivity :account="name" :database="database" />
    <DatabaseImports :account="name" :database="database" @ended="reload" />
  </template>
</template>

<style scoped>
.rows {
  margin: 1rem 0;
}
.made {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1.2rem;
}
.statement :deep(textarea) {
  font-family: var(--mono, monospace);
}
</style>
