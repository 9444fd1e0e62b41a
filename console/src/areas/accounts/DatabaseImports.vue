<script setup lang="ts">
import { computed, ref, useTemplateRef } from 'vue'
import { ElButton } from 'element-plus'
import { useIntervalFn } from '@vueuse/core'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed, entered } from '../../parts/confirm'
import { amount } from '../../words'
import { t } from '../../language'

/** Files that are imported into a database, and its export. */
const props = defineProps<{ account: string; database: string }>()
const emit = defineEmits<{ ended: [] }>()
type Import = Schemas['DatabaseImport']
const path = computed(() => ({ account: props.account }))
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/database-imports', { params: { path: path.value } })),
  { on: path },
)
const here = computed(() => data.value?.imports?.filter((i) => i.database === props.database) ?? [])
const running = computed(() => here.value.some((i) => i.state === 'running'))
const exported = computed(() => `/api/v1/accounts/${props.account}/databases/${props.database}/export?compression=gzip`)

/** How much of a file is sent at once, in bytes. */
const part = 4 << 20
const chosen = useTemplateRef<HTMLInputElement>('chosen')
const sent = ref<number>()
const { refusal: failed, busy, act } = useAct()
const of = (i: Import) => ({ account: props.account, import: i.id })

async function send(file: File): Promise<Import> {
  let one = await made(
    api.POST('/api/v1/accounts/{account}/databases/{database}/imports', {
      params: { path: { account: props.account, database: props.database } },
      body: { name: file.name, size: file.size },
    }),
  )
  while (one.received < file.size) {
    sent.value = Math.floor((one.received * 100) / file.size)
    one = await made(
      api.PUT('/api/v1/accounts/{account}/database-imports/{import}/file', {
        params: { path: of(one), query: { offset: one.received } },
        headers: { 'Content-Type': 'application/octet-stream' },
        body: file.slice(one.received, one.received + part) as unknown as string,
        bodySerializer: (body: unknown) => body as Blob,
      }),
    )
  }
  return one
}
/** Has the server read a file of the account's home, and waits until it has. */
async function fetched(file: string): Promise<Import> {
  let one = await made(
    api.POST('/api/v1/accounts/{account}/databases/{database}/imports', {
      params: { path: { account: props.account, database: props.database } },
      body: { home_file: file },
    }),
  )
  while (one.state === 'waiting' && one.received < one.size) {
    sent.value = Math.floor((one.received * 100) / one.size)
    await new Promise((resolve) => setTimeout(resolve, 300))
    one = await ask(api.GET('/api/v1/accounts/{account}/database-imports/{import}', { params: { path: of(one) } }))
  }
  return one
}
const forget = (i: Import) =>
  made(api.DELETE('/api/v1/accounts/{account}/database-imports/{import}', { params: { path: of(i) } }))

/** Looks at what has been sent, and starts it if that is as wanted. */
async function start(one: Import) {
  const contents = await ask(
    api.GET('/api/v1/accounts/{account}/database-imports/{import}/contents', { params: { path: of(one) } }),
  ).catch(async (problem: unknown) => {
    await forget(one)
    throw problem
  })
  const found = contents.found ?? []
  const text = [
    t('{file} has {statements} and makes {tables}.', {
      file: one.name,
      statements: t('{n} statement | {n} statements', { n: contents.statements }),
      tables: t('{n} table | {n} tables', { n: contents.tables?.length ?? 0 }),
    }),
    ...found.map((f) => t('Line {line}: {what}', { line: f.line, what: f.text })),
    t('It is executed as {user}, up to the first statement that fails.', { user: one.user }),
  ]
  if (!(await confirmed(text.join('\n'), found.length ? t('Mend and import') : t('Import')))) {
    await forget(one)
    return
  }
  await made(
    api.POST('/api/v1/accounts/{account}/database-imports/{import}/start', {
      params: { path: of(one) },
      body: { mend: found.length > 0 },
    }),
  )
}
/** Starts what has been prepared, and shows how it is. */
const run = (what: string, prepare: () => Promise<Import>) =>
  act(async () => {
    try {
      const one = await prepare()
      sent.value = undefined
      if (one.state === 'waiting') await start(one)
    } finally {
      sent.value = undefined
      if (chosen.value) chosen.value.value = ''
      await reload()
      if (!running.value) emit('ended') // a small one has ended already
    }
  }, what)
function choose() {
  const file = chosen.value?.files?.[0]
  if (file) void run('send', () => send(file))
}
async function chooseInHome() {
  const file = await entered(t('Path of the file in the home'), t('Import'), 'tmp/dump.sql.gz')
  if (file) void run('home', () => fetched(file))
}
const stop = (i: Import) =>
  act(async () => {
    await made(api.POST('/api/v1/accounts/{account}/database-imports/{import}/stop', { params: { path: of(i) } }))
    await reload()
  })
const remove = (i: Import) =>
  act(async () => {
    await forget(i)
    await reload()
  })
useIntervalFn(async () => {
  if (!running.value) return
  await reload()
  if (!running.value) emit('ended')
}, 1000)

const states: Record<Import['state'], string> = {
  waiting: t('not started'),
  running: t('running'),
  done: t('done'),
  failed: t('failed'),
}
function outcome(i: Import) {
  const done = i.table
    ? t('{n} row | {n} rows', { n: i.rows })
    : t('{n} statement | {n} statements', { n: i.statements })
  if (i.state === 'running' && i.size) return `${Math.floor((i.taken * 100) / i.size)} % · ${done}`
  if (i.state === 'failed') return t('line {line}: {why}', { line: i.line, why: i.failure }) + ` · ${done}`
  if (i.state === 'waiting') return i.received < i.size ? `${Math.floor((i.received * 100) / i.size)} %` : ''
  return done
}
</script>

<template>
  <div class="titled">
    <h3>{{ $t('Import and export') }}</h3>
    <span>
      <ElButton :loading="busy === 'send'" @click="chosen?.click()">{{ $t('Import a file') }}</ElButton>
      <ElButton :loading="busy === 'home'" @click="chooseInHome">{{ $t('Import from the home') }}</ElButton>
      <a class="el-button" :href="exported" download>{{ $t('Export') }}</a>
    </span>
  </div>
  <input ref="chosen" type="file" class="chosen" :aria-label="$t('File to import')" @change="choose" />
  <p class="quiet">
    {{
      $t('Statements of SQL, as they are or compressed with gzip or zstd, up to {size}.', {
        size: amount(10 * 2 ** 30, 'bytes'),
      })
    }}
  </p>
  <p v-if="sent !== undefined" role="status">{{ $t('Received: {percent} %', { percent: sent }) }}</p>
  <ProblemNote :refusal="failed ?? refusal" />
  <table v-if="here.length" class="imports">
    <caption class="unseen">
      {{
        $t('Imports of the last week')
      }}
    </caption>
    <tbody>
      <tr v-for="i in here" :key="i.id">
        <td>{{ i.copy_of || i.name }}</td>
        <td>{{ states[i.state] }}</td>
        <td :class="{ failed: i.state === 'failed' }">{{ outcome(i) }}</td>
        <td>
          <button v-if="i.state === 'running'" type="button" class="link" @click="stop(i)">{{ $t('Stop') }}</button>
          <template v-else>
            <button
              v-if="i.state === 'waiting' && i.received === i.size"
              type="button"
              class="link"
              @click="run('start', async () => i)"
            >
              {{ $t('Start') }}
            </button>
            <button type="button" class="link" @click="remove(i)">{{ $t('Remove') }}</button>
          </template>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
a.el-button {
  text-decoration: none;
}
.chosen {
  display: none;
}
.imports {
  width: 100%;
  border-collapse: collapse;
}
.imports td {
  padding: 0.3rem 0.8rem 0.3rem 0;
  vertical-align: top;
  overflow-wrap: anywhere;
  border-bottom: 1px solid var(--line);
}
.failed {
  color: var(--signal);
}
.unseen {
  position: absolute;
  clip-path: inset(50%);
}
</style>
