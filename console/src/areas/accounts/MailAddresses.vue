<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import MailPath from '../../parts/MailPath.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { addressList } from '../../words'
import { useAccount } from './useAccount'
import { t } from '../../language'
import AddressInput from './AddressInput.vue'

/** The addresses of an account that are no mailboxes', and where messages to any address go. */
const props = defineProps<{ change: boolean }>()
const { name, data: account, after } = useAccount()
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/addresses', { params: { path: { account: name.value } } })),
  { on: name, live: true },
)
type Address = Schemas['MailAddress']
const shown = ref(false)
/** The address that the form changes; none for one that is added. */
const address = ref<Address>()
const { form, dirty, general, error, busy, act, openWith } = useForm(
  () => ({ local: '', domain: '', targets: '' }),
  shown,
)
const { refusal: acting, act: actRow } = useAct()
const domains = computed(() => account.value?.domains ?? [])

function begin(of?: Address) {
  address.value = of
  void openWith({
    domain: of?.domain ?? domains.value.find((d) => d.main)?.name ?? domains.value[0]?.name,
    targets: of?.targets.join('\n') ?? '',
  })
}
async function done(operation: number) {
  shown.value = false
  after(operation)
  await reload()
}
const at = (a: Address) => ({ account: name.value, address: a.address })
const save = () =>
  act(async () => {
    const a = address.value
    const targets = addressList(form.targets)
    const outcome = a
      ? await made(
          api.PATCH('/api/v1/accounts/{account}/addresses/{address}', {
            params: { path: at(a), header: { 'If-Match': `"${a.version}"` } },
            body: { targets },
          }),
        )
      : await made(
          api.POST('/api/v1/accounts/{account}/addresses', {
            params: { path: { account: name.value } },
            body: { address: `${form.local.trim().replace(/@.*/, '')}@${form.domain}`, targets },
          }),
        )
    await done(outcome.operation)
  }, 'save')
const remove = (a: Address) =>
  actRow(async () => {
    if (!(await confirmed(t('Remove the address {address}?', { address: a.unicode }), t('Remove')))) return
    await done(
      (await made(api.DELETE('/api/v1/accounts/{account}/addresses/{address}', { params: { path: at(a) } }))).operation,
    )
  })
const columns: Column<Address>[] = [
  { key: 'address', title: t('Address'), long: true },
  { key: 'targets', title: t('Leads to'), long: true },
  { key: 'acts', title: '', right: true },
]

/** Where a message to the address that was typed would go. */
const typed = ref('')
const path = ref<Schemas['MailPath']>()
const { refusal: tracing, act: actTrace, busy: tracingNow } = useAct()
const trace = (of: string) =>
  actTrace(async () => {
    typed.value = of
    path.value = undefined
    path.value = await ask(
      api.GET('/api/v1/accounts/{account}/mail-path', {
        params: { path: { account: name.value }, query: { address: of } },
      }),
    )
  })
</script>

<template>
  <ProblemNote :refusal="refusal" />
  <template v-if="data">
    <div class="titled others">
      <h2>{{ $t('Other addresses') }}</h2>
      <ElButton v-if="props.change" @click="begin()">{{ $t('Add an address') }}</ElButton>
    </div>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(a) => a.address" :columns="columns" :rows="data.addresses" :caption="$t('Other addresses')">
      <template #address="{ row }"
        ><code>{{ row.unicode }}</code>
        <template v-if="row.kind === 'catch_all'"
          >{{ ' ' }}<span class="quiet">{{ $t('whatever no other address gets') }}</span></template
        ></template
      >
      <template #targets="{ row }"
        ><span :class="{ quiet: !row.pointed }"
          ><span v-for="(target, n) in row.targets" :key="target"
            ><template v-if="n">, </template><code>{{ target }}</code></span
          >
          <template v-if="!row.pointed">{{ ' ' }}{{ $t('(automatic)') }}</template></span
        ></template
      >
      <template #acts="{ row }"
        ><button
          v-if="row.kind !== 'catch_all'"
          type="button"
          class="link"
          :aria-label="$t('Trace {name}', { name: row.unicode })"
          @click="trace(row.address)"
        >
          {{ $t('Trace') }}
        </button>
        <template v-if="props.change"
          >{{ ' ' }}
          <button
            type="button"
            class="link"
            :aria-label="$t('Change {name}', { name: row.unicode })"
            @click="begin(row)"
          >
            {{ $t('Change') }}
          </button>
          <template v-if="row.pointed"
            >{{ ' ' }}
            <button
              type="button"
              class="link"
              :aria-label="$t('Remove {name}', { name: row.unicode })"
              @click="remove(row)"
            >
              {{ $t('Remove') }}
            </button></template
          ></template
        ></template
      >
      <template #empty
        ><div class="empty">
          <h3>{{ $t('No other address yet') }}</h3>
          <p>{{ $t('An address leads to mailboxes, to addresses elsewhere, or to both.') }}</p>
        </div></template
      >
    </DataTable>
    <form v-if="data.addresses.length" class="trace" @submit.prevent="trace(typed.trim())">
      <label for="trace">{{ $t('Where would a message go?') }}</label>
      <ElInput id="trace" v-model="typed" spellcheck="false" />
      <ElButton native-type="submit" :loading="!!tracingNow" :disabled="!typed.trim()">{{ $t('Trace') }}</ElButton>
    </form>
    <ProblemNote :refusal="tracing" />
    <div v-if="path" class="path" role="status"><MailPath :path="path" /></div>
    <FormDialog
      id="address"
      v-model="shown"
      :title="address ? $t('Change {name}', { name: address.unicode }) : $t('Add an address')"
      :action="address ? $t('Save address') : $t('Add address')"
      :ready="Boolean((address || form.local.trim()) && form.targets.trim())"
      :busy="busy === 'save'"
      :dirty="dirty"
      :refusal="general"
      @submit="save"
    >
      <FormField
        v-if="!address"
        :label="$t('Address')"
        for="address-local"
        :error="error('address')"
        :hint="$t('A star stands for whatever no other address gets')"
      >
        <AddressInput id="address-local" v-model:local="form.local" v-model:domain="form.domain" :domains="domains" />
      </FormField>
      <FormField
        :label="$t('Leads to')"
        for="address-targets"
        :error="error('targets')"
        :hint="$t('One address in a line; for mailboxes of the same domain, what goes before the domain is enough')"
        ><ElInput
          id="address-targets"
          v-model="form.targets"
          type="textarea"
          :autosize="{ minRows: 2, maxRows: 10 }"
          spellcheck="false"
      /></FormField>
    </FormDialog>
  </template>
</template>

<style scoped>
.others {
  margin-block-start: 1.8rem;
}
.trace {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 0.6rem;
  align-items: center;
  margin-block-start: 0.9rem;
}
.trace .el-input {
  width: min(24rem, 100%);
}
.path {
  margin-block-start: 0.6rem;
}
</style>
