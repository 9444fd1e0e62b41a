<script setup lang="ts">
import { computed, ref, shallowRef, watchEffect } from 'vue'
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, foreseen, made, Refusal, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { useOperation } from '../../composables/useOperation'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StepList from '../../parts/StepList.vue'
import StripFact from '../../parts/StripFact.vue'
import { may } from '../session/state'
import ImportZone from './ImportZone.vue'
import SigningNote from './SigningNote.vue'
import ZoneCheck from './ZoneCheck.vue'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'
import { named } from '../../codes'

const props = defineProps<{ zone: string }>()
const path = computed(() => ({ zone: props.zone }))
const {
  data,
  outdated,
  refusal: missing,
  reload,
  refresh,
  showLatest,
} = useLoad(() => ask(api.GET('/api/v1/zones/{zone}', { params: { path: path.value } })), {
  on: path,
  live: true,
  editing: () => draft.value?.id !== undefined,
})
const started = ref<number>()
const { operation } = useOperation(started, () => void refresh())
const { refusal, busy, act } = useAct()
watchEffect(() => {
  if (data.value) document.title = `${data.value.unicode} · Victualler`
})

const here = computed(() => data.value?.hosted === 'here')
const mayChange = computed(() => may('zones.change'))
const overruled = computed(() => data.value?.records.filter((r) => r.overruled).length ?? 0)

// A record that is being added, or changed where it has a number.
type Draft = { id?: number; name: string; type: string; ttl: string; data: string }
const fresh = (): Draft => ({ name: '', type: 'A', ttl: '', data: '' })
const draft = ref<Draft>()
const notes = ref<string[]>([])
const preview = shallowRef<Schemas['Preview']>()
const types = ['A', 'AAAA', 'CNAME', 'MX', 'TXT', 'SRV', 'CAA', 'NS', 'PTR', 'TLSA', 'SSHFP', 'SVCB', 'HTTPS']
const forms: Record<string, string> = {
  A: '192.0.2.7',
  AAAA: '2001:db8::7',
  CNAME: 'pages.provider.test.',
  MX: '10 mail.provider.test.',
  TXT: t('any text'),
  SRV: '0 5 5061 sip.provider.test.',
  CAA: '0 issue "authority.example"',
  NS: 'ns1.provider.test.',
  PTR: 'name.provider.test.',
  TLSA: t('3 1 1 and 64 hexadecimal digits'),
  SSHFP: t('4 2 and 64 hexadecimal digits'),
  SVCB: '1 . alpn=h2',
  HTTPS: '1 . alpn=h2',
}
const body = computed(() => {
  const d = draft.value ?? fresh()
  return { name: d.name.trim(), type: d.type, data: d.data.trim(), ttl: Number(d.ttl) || undefined }
})
function begin(of?: Schemas['ZoneRecord']) {
  refusal.value = preview.value = undefined
  notes.value = []
  draft.value = of ? { id: of.id, name: of.name, type: of.type, ttl: String(of.ttl), data: of.data } : fresh()
}
const send = <T,>(
  query: { preview?: boolean },
  through: (call: Promise<{ data?: unknown; error?: unknown; response: Response }>) => Promise<T>,
): Promise<T> =>
  draft.value?.id
    ? through(
        api.PATCH('/api/v1/zones/{zone}/records/{record}', {
          params: {
            path: { ...path.value, record: draft.value.id },
            header: { 'If-Match': `"${data.value?.version}"` },
            query,
          },
          body: body.value,
        }),
      )
    : through(
        api.POST('/api/v1/zones/{zone}/records', {
          params: { path: path.value, query },
          body: body.value,
        }),
      )
const look = () => act(async () => (preview.value = await send({ preview: true }, foreseen)), 'preview')
const save = () =>
  act(async () => {
    const done = (await send({}, made)) as Schemas['ZoneChanged']
    after(done)
    draft.value = undefined
  }, 'save')
function after(done: Schemas['ZoneChanged']) {
  notes.value = done.corrections
  preview.value = undefined
  started.value = done.operation || undefined
  void reload()
}
const remove = (r: Schemas['ZoneRecord']) =>
  act(async () => {
    if (
      !(await confirmed(
        t('Remove the record {name} {type} {r}?', { name: r.name, type: r.type, r: r.data }),
        t('Remove'),
      ))
    )
      return
    started.value = (
      await made(
        api.DELETE('/api/v1/zones/{zone}/records/{record}', { params: { path: { ...path.value, record: r.id! } } }),
      )
    ).operation
    await reload()
  })
const reset = () =>
  act(async () => {
    if (!(await confirmed(t('Remove your own records that replace derived ones?'), t('Remove')))) return
    after(await made(api.POST('/api/v1/zones/{zone}/reset', { params: { path: path.value }, body: {} })))
  })
const change = (what: Schemas['ZoneChange']) =>
  act(async () => {
    const words = what.hosted
      ? what.hosted === 'here'
        ? t('Host its DNS here?')
        : t('Host its DNS elsewhere?')
      : what.dnssec
        ? t('Sign the zone?')
        : t('Sign the zone no longer?')
    if (!(await confirmed(words, t('Change')))) return
    after(
      await made(
        api.PATCH('/api/v1/zones/{zone}', {
          params: { path: path.value, header: { 'If-Match': `"${data.value?.version}"` } },
          body: what,
        }),
      ),
    )
  })
const decide = (choice: { value: string }) => {
  // What is asked about is the name at the end of the data.
  const d = draft.value!
  const parts = d.data.trim().split(/\s+/)
  parts[parts.length - 1] = choice.value
  d.data = parts.join(' ')
  refusal.value = undefined
}
const wrong = (name: string) => (refusal.value instanceof Refusal ? refusal.value.field(name) : undefined)
const importing = ref(false)
const checking = ref(false)

type Row = Schemas['ZoneRecord']
const own = computed(() => data.value?.records.filter((r) => r.own) ?? [])
const derived = computed(() => data.value?.records.filter((r) => !r.own) ?? [])
const columns = computed<Column<Row>[]>(() => [
  { key: 'name', title: t('Name') },
  { key: 'type', title: t('Type'), text: (r) => r.type },
  { key: 'ttl', title: 'TTL', right: true, wide: true, text: (r) => `${r.ttl} s` },
  { key: 'data', title: here.value ? t('Data') : t('To be entered'), long: true },
])
const ownColumns = computed<Column<Row>[]>(() => [...columns.value, { key: 'acts', title: '', right: true }])
const derivedColumns = computed<Column<Row>[]>(() => [
  ...columns.value,
  { key: 'from', title: t('Follows from'), wide: true, long: true },
])
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" to="/zones" :label="$t('All zones')" />
  <template v-if="data">
    <PageHead :title="data.unicode" :about="data.unicode === data.name ? undefined : data.name">
      <template #above
        ><RouterLink to="/zones">{{ $t('Zones') }}</RouterLink> ›
        <RouterLink :to="`/accounts/${data.account}`">{{ data.account }}</RouterLink></template
      >
      <ElButton @click="checking = true">{{ $t('Check public DNS') }}</ElButton>
      <a v-if="here" class="el-button" :href="`/api/v1/zones/${data.name}/file`" :download="`${data.name}.zone`">{{
        $t('Export')
      }}</a>
      <ElButton v-if="here && mayChange" @click="importing = true">{{ $t('Import…') }}</ElButton>
      <ElButton v-if="mayChange" @click="change({ hosted: here ? 'elsewhere' : 'here' })">{{
        here ? $t('Host DNS elsewhere…') : $t('Host DNS here…')
      }}</ElButton>
    </PageHead>
    <FactStrip>
      <StripFact :name="$t('DNS hosted')">{{ named(data.hosted) }}</StripFact>
      <StripFact v-if="here" :name="$t('Name servers, for the registrar')"
        ><code>{{ data.name_servers.join(' ') }}</code></StripFact
      >
      <StripFact v-if="here" :name="$t('Signed')"
        >{{ data.dnssec ? $t('yes') : $t('no') }}
        <button v-if="mayChange" type="button" class="link" @click="change({ dnssec: !data.dnssec })">
          {{ data.dnssec ? $t('Stop signing') : $t('Sign the zone') }}
        </button></StripFact
      >
      <StripFact :name="$t('Records')">{{
        $t('{own} own, {derived} derived', { own: own.length, derived: derived.length })
      }}</StripFact>
    </FactStrip>
    <p v-if="!here" class="quiet">
      {{
        $t(
          'Other name servers answer for this zone. Enter the records below there; “Check public DNS” tells which are right.',
        )
      }}
      <template v-if="data.why">{{ $t('It cannot be here: {why}.', { why: data.why }) }}</template>
    </p>
    <ProblemNote v-if="!draft" :refusal="refusal" />
    <section v-if="operation" :aria-label="$t('Steps')">
      <h2>{{ operation.title }}</h2>
      <p v-for="n in notes" :key="n" class="quiet">{{ n }}</p>
      <StepList :operation="operation" />
    </section>
    <SigningNote v-if="data.dnssec" :key="operation?.finished_at ?? ''" :zone="data.name" />
    <ZoneCheck v-if="checking" :zone="data.name" @close="checking = false" />
    <section v-if="here || own.length">
      <div class="titled">
        <h2>
          {{ $t('Own records') }}
          <span v-if="!here" class="quiet">{{ $t('kept, but nobody asks for them here') }}</span>
        </h2>
        <ElButton v-if="here && mayChange && !draft" size="small" type="primary" @click="begin()">{{
          $t('Add a record')
        }}</ElButton>
      </div>
      <form v-if="draft" class="draft" @submit.prevent="save" @keydown.esc="draft = undefined">
        <label for="record-name"
          >{{ $t('Name') }}
          <ElInput id="record-name" v-model="draft.name" placeholder="@" spellcheck="false" autocomplete="off"
        /></label>
        <label for="record-type"
          >{{ $t('Type') }}
          <ElSelect id="record-type" v-model="draft.type" filterable
            ><ElOption v-for="type in types" :key="type" :value="type" :label="type" /></ElSelect
        ></label>
        <label for="record-data" class="data"
          >{{ $t('Data') }}
          <ElInput
            id="record-data"
            v-model="draft.data"
            :placeholder="forms[draft.type]"
            spellcheck="false"
            autocomplete="off"
        /></label>
        <label for="record-ttl"
          >TTL <ElInput id="record-ttl" v-model="draft.ttl" placeholder="3600" inputmode="numeric" autocomplete="off"
        /></label>
        <div class="acts">
          <ElButton type="primary" native-type="submit" :disabled="!draft.data.trim()" :loading="busy === 'save'">{{
            draft.id ? $t('Save record') : $t('Add record')
          }}</ElButton>
          <ElButton :disabled="!draft.data.trim()" :loading="busy === 'preview'" @click="look">{{
            $t('Preview')
          }}</ElButton>
          <ElButton @click="draft = undefined">{{ $t('Cancel') }}</ElButton>
        </div>
        <div class="under">
          <OutdatedNote v-if="outdated" @show="((draft = undefined), showLatest())" />
          <p v-for="f in ['name', 'type', 'data', 'ttl']" v-show="wrong(f)" :key="f" class="warn" role="alert">
            ✕ {{ wrong(f) }}
          </p>
          <ProblemNote v-if="refusal && !refusal.problem.errors?.length" :refusal="refusal"
            ><ElButton v-for="c in refusal.problem.decide ?? []" :key="c.value" size="small" @click="decide(c)">{{
              c.means
            }}</ElButton></ProblemNote
          >
          <PreviewNote v-if="preview" :preview="preview" />
        </div>
      </form>
      <DataTable :id="(r) => r.id!" :columns="ownColumns" :rows="own" :caption="$t('Records that people have added')">
        <template #name="{ row }"
          ><code>{{ row.name }}</code></template
        >
        <template #data="{ row }"
          ><code class="whole">{{ row.data }}</code></template
        >
        <template #acts="{ row }">
          <span v-if="here && mayChange" class="both"
            ><button
              type="button"
              class="link"
              :aria-label="$t('Change {name} {type}', { name: row.name, type: row.type })"
              @click="begin(row)"
            >
              {{ $t('Change') }}
            </button>
            {{ ' ' }}
            <button
              type="button"
              class="link"
              :aria-label="$t('Remove {name} {type}', { name: row.name, type: row.type })"
              @click="remove(row)"
            >
              {{ $t('Remove') }}
            </button></span
          >
        </template>
        <template #empty
          ><p class="quiet none">{{ $t('None has been added by hand.') }}</p></template
        >
      </DataTable>
    </section>
    <section>
      <div class="titled">
        <h2>
          {{ $t('Derived records') }}
          <span class="quiet">{{
            here ? $t('kept by the service') : $t('to be entered at the other name servers')
          }}</span>
        </h2>
        <ElButton v-if="here && mayChange && overruled" size="small" @click="reset">{{
          $t('Reset {n} replaced record | Reset {n} replaced records', { n: overruled })
        }}</ElButton>
      </div>
      <DataTable
        :id="(r) => `${r.name} ${r.type} ${r.data}`"
        :columns="derivedColumns"
        :rows="derived"
        :caption="$t('Records that follow from what is configured')"
      >
        <template #name="{ row }"
          ><code :class="{ gone: row.overruled }">{{ row.name }}</code></template
        >
        <template #data="{ row }"
          ><code class="whole" :class="{ gone: row.overruled }">{{ row.data }}</code></template
        >
        <template #from="{ row }"
          >{{ row.from }}{{ ' '
          }}<span v-if="row.overruled" class="warn">{{ $t('‖ replaced by an own record') }}</span></template
        >
        <template #empty
          ><p class="quiet none">
            {{ $t('Nothing leads here: no site is served under a name of the zone.') }}
          </p></template
        >
      </DataTable>
    </section>
    <ImportZone v-model="importing" :zone="data.name" @done="after" />
  </template>
</template>

<style scoped>
.draft {
  display: grid;
  grid-template-columns: minmax(7rem, 1fr) 7rem minmax(12rem, 3fr) 6rem auto;
  gap: 0.5rem 0.7rem;
  align-items: end;
  margin: 0 0 0.8rem;
  padding: 0.7rem;
  background: var(--sheet);
  border: 1px solid var(--line);
}
.draft label {
  display: grid;
  gap: 0.15rem;
  color: var(--ink-2);
}
.under {
  grid-column: 1 / -1;
}
.under:empty {
  display: none;
}
.none {
  margin: 0.6rem 0.8rem;
}
a.el-button {
  text-decoration: none;
}
.gone {
  text-decoration: line-through;
  color: var(--ink-2);
}
.whole {
  overflow-wrap: anywhere;
}
@media (max-width: 760px) {
  .both {
    display: grid;
    gap: 0.4rem;
    justify-items: end;
  }
}
@media (max-width: 900px) {
  .draft {
    grid-template-columns: 1fr 1fr;
  }
  .draft .data,
  .draft .acts {
    grid-column: 1 / -1;
  }
}
</style>
