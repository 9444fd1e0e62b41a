<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton, ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { addressList } from '../../words'
import { useAccount } from './useAccount'
import { t } from '../../language'
import AddressInput from './AddressInput.vue'
import ListMembers from './ListMembers.vue'

/** The distribution lists of an account. */
const props = defineProps<{ change: boolean }>()
const { name, data: account, after } = useAccount()
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/lists', { params: { path: { account: name.value } } })),
  { on: name, live: true },
)
type List = Schemas['DistributionList']
const shown = ref(false)
/** The list that the form changes; none for one that is added. */
const list = ref<List>()
const { form, dirty, general, error, busy, act, openWith } = useForm(
  () => ({
    local: '',
    domain: '',
    name: '',
    posting: 'members' as List['posting'],
    moderated: true,
    footer: '',
    owners: '',
    members: '',
  }),
  shown,
)
const { refusal: acting, act: actRow } = useAct()
const domains = computed(() => account.value?.domains ?? [])

function begin(of?: List) {
  list.value = of
  void openWith({
    domain: of?.domain ?? domains.value.find((d) => d.main)?.name ?? domains.value[0]?.name,
    ...(of && {
      name: of.name,
      posting: of.posting,
      moderated: of.moderated,
      footer: of.footer,
      owners: of.owners.join('\n'),
    }),
  })
}
async function done(operation: number) {
  shown.value = false
  after(operation)
  await reload()
}
const at = (l: List) => ({ account: name.value, list: l.address })
const save = () =>
  act(async () => {
    const l = list.value
    const { name: title, posting, moderated, footer } = form
    const said = { name: title, posting, moderated, footer, owners: addressList(form.owners) }
    const outcome = l
      ? await made(
          api.PATCH('/api/v1/accounts/{account}/lists/{list}', {
            params: { path: at(l), header: { 'If-Match': `"${l.version}"` } },
            body: said,
          }),
        )
      : await made(
          api.POST('/api/v1/accounts/{account}/lists', {
            params: { path: { account: name.value } },
            body: {
              ...said,
              address: `${form.local.trim().replace(/@.*/, '')}@${form.domain}`,
              members: addressList(form.members),
            },
          }),
        )
    await done(outcome.operation)
  }, 'save')
const remove = (l: List) =>
  actRow(async () => {
    const question = t('Remove the list {address} with its {n} members?', { address: l.unicode, n: l.members })
    if (!(await confirmed(question, t('Remove')))) return
    await done(
      (await made(api.DELETE('/api/v1/accounts/{account}/lists/{list}', { params: { path: at(l) } }))).operation,
    )
  })
const postings = computed(() => ({
  anyone: t('Anyone'),
  members: t('Its members'),
  owners: t('Its owners alone'),
}))
const sends = (l: List) => {
  if (l.posting === 'anyone') return postings.value.anyone
  return l.moderated
    ? t('{who}; what others send waits', { who: postings.value[l.posting] })
    : t('{who}; others are refused', { who: postings.value[l.posting] })
}
const columns: Column<List>[] = [
  { key: 'address', title: t('List'), long: true },
  { key: 'members', title: t('Members'), right: true },
  { key: 'sends', title: t('Who may send') },
  { key: 'acts', title: '', right: true },
]

/** The list whose members are shown. */
const open = ref<List>()
</script>

<template>
  <ProblemNote :refusal="refusal" />
  <template v-if="data">
    <div class="titled others">
      <h2>{{ $t('Lists') }}</h2>
      <ElButton v-if="props.change" @click="begin()">{{ $t('Add a list') }}</ElButton>
    </div>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(l) => l.address" :columns="columns" :rows="data.lists" :caption="$t('Lists')">
      <template #address="{ row }"
        ><code>{{ row.unicode }}</code
        ><template v-if="row.name"
          >{{ ' ' }}<span class="quiet">{{ row.name }}</span></template
        ></template
      >
      <template #members="{ row }">{{ row.members }}</template>
      <template #sends="{ row }">{{ sends(row) }}</template>
      <template #acts="{ row }"
        ><button
          type="button"
          class="link"
          :aria-label="$t('Members of {name}', { name: row.unicode })"
          @click="open = row"
        >
          {{ $t('Members') }}</button
        ><template v-if="props.change"
          >{{ ' ' }}
          <button
            type="button"
            class="link"
            :aria-label="$t('Change {name}', { name: row.unicode })"
            @click="begin(row)"
          >
            {{ $t('Change') }}
          </button>
          {{ ' ' }}
          <button
            type="button"
            class="link"
            :aria-label="$t('Remove {name}', { name: row.unicode })"
            @click="remove(row)"
          >
            {{ $t('Remove') }}
          </button></template
        ></template
      >
      <template #empty
        ><div class="empty">
          <h3>{{ $t('No list yet') }}</h3>
          <p>{{ $t('What is sent to a list goes to all its members; each can leave it by a click.') }}</p>
        </div></template
      >
    </DataTable>
    <ListMembers v-if="open" :list="open" :change="props.change" @changed="reload" @close="open = undefined" />
    <FormDialog
      id="list"
      v-model="shown"
      :title="list ? $t('Change {name}', { name: list.unicode }) : $t('Add a list')"
      :width="36"
      :action="list ? $t('Save list') : $t('Add list')"
      :ready="Boolean((list || form.local.trim()) && form.owners.trim())"
      :busy="busy === 'save'"
      :dirty="dirty"
      :refusal="general"
      @submit="save"
    >
      <FormField v-if="!list" :label="$t('Address')" for="list-local" :error="error('address')">
        <AddressInput id="list-local" v-model:local="form.local" v-model:domain="form.domain" :domains="domains" />
      </FormField>
      <FormField :label="$t('Name')" for="list-name" :error="error('name')" :hint="$t('What people call it')"
        ><ElInput id="list-name" v-model="form.name"
      /></FormField>
      <FormField
        :label="$t('Owners')"
        for="list-owners"
        :error="error('owners')"
        :hint="$t('One address in a line. They read what waits, and are told of it')"
        ><ElInput
          id="list-owners"
          v-model="form.owners"
          type="textarea"
          :autosize="{ minRows: 1, maxRows: 6 }"
          spellcheck="false"
      /></FormField>
      <FormField
        v-if="!list"
        :label="$t('First members')"
        for="list-members"
        :error="error('members')"
        :hint="$t('One address in a line')"
        ><ElInput
          id="list-members"
          v-model="form.members"
          type="textarea"
          :autosize="{ minRows: 2, maxRows: 8 }"
          spellcheck="false"
      /></FormField>
      <FormField :label="$t('Who may send')" for="list-posting" :error="error('posting')"
        ><ElSelect id="list-posting" v-model="form.posting"
          ><ElOption v-for="(title, value) in postings" :key="value" :value="value" :label="title" /></ElSelect
      ></FormField>
      <ElCheckbox v-if="form.posting !== 'anyone'" v-model="form.moderated">{{
        $t('What others send waits for an owner; otherwise it is refused')
      }}</ElCheckbox>
      <FormField
        :label="$t('Footer')"
        for="list-footer"
        :error="error('footer')"
        :hint="
          $t('Is put below each message; {placeholder} stands for where a member leaves the list', {
            placeholder: '{leave}',
          })
        "
        ><ElInput id="list-footer" v-model="form.footer" type="textarea" :autosize="{ minRows: 2, maxRows: 6 }"
      /></FormField>
    </FormDialog>
  </template>
</template>

<style scoped>
.others {
  margin-block-start: 1.8rem;
}
</style>
