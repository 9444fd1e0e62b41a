<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElButton, ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StripFact from '../../parts/StripFact.vue'
import { confirmed } from '../../parts/confirm'
import { addressList, amount, localDay, moment, momentOf, readAmount } from '../../words'
import { may } from '../session/state'
import { useAccount } from './useAccount'
import { t } from '../../language'
import AddressInput from './AddressInput.vue'
import MailAddresses from './MailAddresses.vue'
import MailLists from './MailLists.vue'
import MailRehearsal from './MailRehearsal.vue'
import MailboxSettings from './MailboxSettings.vue'

/** The mailboxes of an account. */
const { name, data: account, open, after } = useAccount()
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/mailboxes', { params: { path: { account: name.value } } })),
  { on: name, live: true },
)
const has = computed(() => account.value?.features.some((f) => f.feature === 'mail' && f.on))
const change = computed(() => open.value && may('mail.change') && has.value)

type Mailbox = Schemas['Mailbox']
const shown = ref(false)
/** The mailbox that the form changes; none for one that is added. */
const mailbox = ref<Mailbox>()
const { form, dirty, general, error, busy, act, openWith } = useForm(
  () => ({
    local: '',
    domain: '',
    password: '',
    size: '',
    forwards: '',
    sends: '',
    server: '',
    junk: '',
    reply: '',
    replySubject: '',
    replyFrom: '',
    replyUntil: '',
  }),
  shown,
)
/** The mailbox whose settings are shown, by its address: it may change meanwhile. */
const looking = ref('')
const looked = computed(() => data.value?.mailboxes.find((b) => b.address === looking.value))
const { refusal: acting, act: actRow, busy: acts } = useAct()
const wrongSize = ref('')
watch(
  () => form.size,
  () => (wrongSize.value = ''),
)

/** Those that the first mailbox may be put on, where somebody is to choose. */
const unplaced = computed(() => Boolean(data.value && !data.value.server))
const { data: all } = useLoad(
  async () => (unplaced.value && may('servers.read') ? ask(api.GET('/api/v1/servers')) : undefined),
  { on: unplaced },
)
const servers = computed(() => all.value?.servers.filter((s) => s.roles.includes('mail') && s.host_name) ?? [])

const domains = computed(() => account.value?.domains ?? [])
function begin(of?: Mailbox) {
  mailbox.value = of
  void openWith({
    domain: of?.domain ?? domains.value.find((d) => d.main)?.name ?? domains.value[0]?.name,
    size: of?.size ? amount(of.size, 'bytes') : '',
    forwards: of?.forward_to.join('\n') ?? '',
    sends: of?.sends_per_hour?.toString() ?? '',
    junk: of?.junk_above?.toString() ?? '',
    reply: of?.reply?.text ?? '',
    replySubject: of?.reply?.subject ?? '',
    replyFrom: localDay(of?.reply?.from),
    replyUntil: localDay(of?.reply?.until, -1),
  })
}
async function done(operation: number) {
  shown.value = false
  after(operation)
  await reload()
}
const at = (b: Mailbox) => ({ account: name.value, mailbox: b.address })
/** The absence reply as it is sent; one without a text ends it. Nothing where it stays as it is. */
function replyTyped() {
  const before = mailbox.value?.reply
  if (!form.reply.trim() && !before) return undefined
  return {
    text: form.reply.trim(),
    subject: form.replySubject.trim() || undefined,
    from: momentOf(form.replyFrom),
    until: momentOf(form.replyUntil, 1),
  }
}
/** The size as it is sent; empty is as much as the account may give a mailbox, which a change says as 0. */
function sizeTyped(): number | undefined {
  if (!form.size.trim()) return mailbox.value?.size ? 0 : undefined
  const read = readAmount(form.size, 'bytes')
  if ('wrong' in read) {
    wrongSize.value = read.wrong
    throw new TypeError(read.wrong)
  }
  return read.value ?? 0
}
const save = () => {
  let size: number | undefined
  try {
    size = sizeTyped()
  } catch {
    return
  }
  return act(async () => {
    const b = mailbox.value
    const outcome = b
      ? await made(
          api.PATCH('/api/v1/accounts/{account}/mailboxes/{mailbox}', {
            params: { path: at(b), header: { 'If-Match': `"${b.version}"` } },
            body: {
              password: form.password || undefined,
              size: size === (b.size ?? undefined) ? undefined : size,
              reply: replyTyped(),
              forward_to: addressList(form.forwards),
              junk_above: Number(form.junk) === (b.junk_above ?? 0) ? undefined : Number(form.junk),
              sends_per_hour: Number(form.sends) === (b.sends_per_hour ?? 0) ? undefined : Number(form.sends),
            },
          }),
        )
      : await made(
          api.POST('/api/v1/accounts/{account}/mailboxes', {
            params: { path: { account: name.value } },
            body: {
              address: `${form.local.trim().replace(/@.*/, '')}@${form.domain}`,
              password: form.password || undefined,
              size: size || undefined,
              forward_to: addressList(form.forwards),
              sends_per_hour: Number(form.sends) || undefined,
              server: form.server || undefined,
            },
          }),
        )
    await done(outcome.operation)
  }, 'save')
}
const remove = (b: Mailbox) =>
  actRow(async () => {
    if (!(await confirmed(t('Remove {mailbox} and all messages in it?', { mailbox: b.unicode }), t('Remove')))) return
    await done(
      (await made(api.DELETE('/api/v1/accounts/{account}/mailboxes/{mailbox}', { params: { path: at(b) } }))).operation,
    )
  })
/** The domains with mailboxes. */
const mailed = computed(() => [...new Set(data.value?.mailboxes.map((b) => b.domain) ?? [])])
/** Why nothing is sent, if so. */
const stopped = computed(() => account.value?.warnings.find((w) => w.code === 'sending-stopped'))
const release = () =>
  actRow(async () => {
    await made(api.POST('/api/v1/accounts/{account}/release-sending', { params: { path: { account: name.value } } }))
    after()
  })
/** Suspending mail by itself, while the sites go on. */
const suspending = ref(false)
const {
  form: stop,
  general: notStopped,
  dirty: stopTyped,
  error: stopError,
  busy: stopping,
  act: actStop,
} = useForm(() => ({ sending: true, receiving: false, why: '' }), suspending)
const suspendMail = () =>
  actStop(async () => {
    const { operation } = await made(
      api.POST('/api/v1/accounts/{account}/suspend-mail', {
        params: { path: { account: name.value } },
        body: { ...stop },
      }),
    )
    suspending.value = false
    await done(operation)
  })
const resumeMail = () =>
  actRow(async () => {
    await done(
      (await made(api.POST('/api/v1/accounts/{account}/resume-mail', { params: { path: { account: name.value } } })))
        .operation,
    )
  })
const columns: Column<Mailbox>[] = [
  { key: 'address', title: t('Address'), long: true },
  { key: 'most', title: t('Holds at most'), right: true, wide: true, text: (b) => amount(b.most, 'bytes') },
  { key: 'forward_to', title: t('Also passed on to'), long: true, wide: true, text: (b) => b.forward_to.join(', ') },
  { key: 'password', title: t('Password'), wide: true, text: (b) => (b.password ? t('set') : t('none yet')) },
  { key: 'acts', title: '', right: true },
]
</script>

<template>
  <ProblemNote :refusal="refusal" />
  <template v-if="data && account">
    <div v-if="stopped" class="stopped" role="status">
      <div>
        <strong>{{ stopped.what }}</strong> {{ stopped.seen }} {{ stopped.mend }}
      </div>
      <p>
        <RouterLink :to="{ path: '/messages', query: { account: name, outcome: 'failed' } }">{{
          $t('Messages that came back')
        }}</RouterLink>
        <ElButton v-if="may('sending.release')" :loading="!!acts" @click="release">{{
          $t('Release sending')
        }}</ElButton>
      </p>
    </div>
    <div v-if="data.suspension" class="stopped" role="status">
      <div>
        <strong>{{
          data.suspension.sending && data.suspension.receiving
            ? $t('Mail is suspended: nothing is sent, and whoever writes is told to try again later.')
            : data.suspension.sending
              ? $t('Sending is suspended.')
              : $t('Receiving is suspended: whoever writes is told to try again later.')
        }}</strong>
        {{ data.suspension.why }}
        <span class="quiet">{{
          $t('by {by}, {since}', { by: data.suspension.by, since: moment(data.suspension.since) })
        }}</span>
      </div>
      <p v-if="may('accounts.suspend') && open">
        <ElButton :loading="!!acts" @click="resumeMail">{{ $t('Resume mail') }}</ElButton>
      </p>
    </div>
    <div class="titled">
      <h2>{{ $t('Mailboxes') }}</h2>
      <div class="acts">
        <ElButton
          v-if="may('accounts.suspend') && open && data.server && !data.suspension"
          @click="suspending = true"
          >{{ $t('Suspend mail…') }}</ElButton
        >
        <ElButton v-if="change" type="primary" @click="begin()">{{ $t('Add a mailbox') }}</ElButton>
      </div>
    </div>
    <p v-if="!has" class="quiet">{{ $t('Mail is not part of what this account may use.') }}</p>
    <FactStrip v-if="data.server">
      <StripFact :name="$t('Server for mail programs')"
        ><code>{{ data.server }}</code></StripFact
      >
      <StripFact :name="$t('Reading')">{{ $t('IMAP, port 993, or POP3, port 995, with TLS') }}</StripFact>
      <StripFact :name="$t('Sending')">{{ $t('port 465 with TLS') }}</StripFact>
      <StripFact :name="$t('Sign-in name')">{{ $t('the whole address') }}</StripFact>
      <StripFact v-if="data.placement" :name="$t('Why there')">{{ data.placement }}</StripFact>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(b) => b.address" :columns="columns" :rows="data.mailboxes" :caption="$t('Mailboxes')">
      <template #address="{ row }"
        ><code>{{ row.unicode }}</code
        ><template v-if="row.reply"
          >{{ ' ' }}<span class="quiet">{{ $t('absence reply') }}</span></template
        ><template v-if="row.failed_sign_ins"
          >{{ ' '
          }}<span class="quiet">{{
            $t('failed sign-ins: {count}', { count: row.failed_sign_ins.count })
          }}</span></template
        ></template
      >
      <template #acts="{ row }"
        ><button
          type="button"
          class="link"
          :aria-label="$t('Settings of {name}', { name: row.unicode })"
          @click="looking = row.address"
        >
          {{ $t('Settings') }}</button
        ><template v-if="change"
          >{{ ' '
          }}<button
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
          <h3>{{ $t('No mailbox yet') }}</h3>
          <p>{{ $t('A mailbox keeps the mail to its address; mail programs read and send with it.') }}</p>
        </div></template
      >
    </DataTable>
    <FormDialog
      id="mailbox"
      v-model="shown"
      :title="mailbox ? $t('Change {name}', { name: mailbox.unicode }) : $t('Add a mailbox')"
      :action="mailbox ? $t('Save mailbox') : $t('Add mailbox')"
      :ready="Boolean(mailbox || form.local.trim())"
      :busy="busy === 'save'"
      :dirty="dirty"
      :refusal="general"
      @submit="save"
    >
      <FormField
        v-if="!mailbox"
        :label="$t('Address')"
        for="mailbox-local"
        :error="error('address')"
        :hint="$t('Only what goes before the domain is typed')"
      >
        <AddressInput id="mailbox-local" v-model:local="form.local" v-model:domain="form.domain" :domains="domains" />
      </FormField>
      <NewPassword
        id="mailbox-password"
        v-model="form.password"
        :label="mailbox?.password ? $t('Another password') : $t('Password')"
        :about="[form.local, mailbox?.unicode ?? '']"
        :error="error('password')"
      />
      <p v-if="mailbox?.password" class="quiet">
        {{ $t('Left empty, it stays as it is; another one ends all sessions.') }}
      </p>
      <FormField
        :label="$t('Holds at most')"
        for="mailbox-size"
        :error="error('size') ?? wrongSize"
        :hint="$t('Such as 2G; empty is as much as the account may give a mailbox')"
        ><ElInput id="mailbox-size" v-model="form.size" spellcheck="false" autocomplete="off"
      /></FormField>
      <FormField
        v-if="servers.length > 1"
        :label="$t('Server')"
        for="mailbox-server"
        :error="error('server')"
        :hint="$t('Of all mail of this account; it stays there')"
      >
        <ElSelect
          id="mailbox-server"
          v-model="form.server"
          clearable
          :placeholder="$t('Where the sites are, if possible')"
        >
          <ElOption v-for="s in servers" :key="s.label" :value="s.label">
            {{ s.label }} <span class="quiet">{{ s.host_name }}</span>
          </ElOption>
        </ElSelect>
      </FormField>
      <FormField
        :label="$t('Also passed on to')"
        for="mailbox-forwards"
        :error="error('forward_to') ?? error('targets')"
        :hint="$t('One address in a line. Messages are stored here as well, and spam here alone')"
        ><ElInput
          id="mailbox-forwards"
          v-model="form.forwards"
          type="textarea"
          :autosize="{ minRows: 1, maxRows: 8 }"
          spellcheck="false"
      /></FormField>
      <template v-if="mailbox">
        <FormField
          :label="$t('Absence reply')"
          for="mailbox-reply"
          :error="error('reply.text') ?? error('reply')"
          :hint="$t('Told once a week to whoever writes; lists and other replies get none. Empty is none')"
          ><ElInput id="mailbox-reply" v-model="form.reply" type="textarea" :autosize="{ minRows: 1, maxRows: 8 }"
        /></FormField>
        <template v-if="form.reply.trim()">
          <FormField
            :label="$t('Subject of the reply')"
            for="mailbox-reply-subject"
            :error="error('reply.subject')"
            :hint="$t('Empty is that of the message')"
            ><ElInput id="mailbox-reply-subject" v-model="form.replySubject"
          /></FormField>
          <FormField :label="$t('Absent from')" for="mailbox-reply-from" :error="error('reply.from')"
            ><ElInput id="mailbox-reply-from" v-model="form.replyFrom" type="date"
          /></FormField>
          <FormField :label="$t('Absent until the end of')" for="mailbox-reply-until" :error="error('reply.until')"
            ><ElInput id="mailbox-reply-until" v-model="form.replyUntil" type="date"
          /></FormField>
        </template>
      </template>
      <FormField
        :label="$t('Sends per hour')"
        for="mailbox-sends"
        :error="error('sends_per_hour')"
        :hint="$t('To how many recipients; empty is as many as the account may')"
        ><ElInput id="mailbox-sends" v-model="form.sends" inputmode="numeric" autocomplete="off"
      /></FormField>
      <FormField
        v-if="mailbox"
        :label="$t('Goes to Junk from')"
        for="mailbox-junk"
        :error="error('junk_above')"
        :hint="$t('Points of the spam filter, such as 4.5; empty is what the installation says')"
        ><ElInput id="mailbox-junk" v-model="form.junk" inputmode="decimal" autocomplete="off"
      /></FormField>
    </FormDialog>
    <MailboxSettings
      :account="name"
      :mailbox="looked"
      :server="data.server ?? ''"
      :change="!!change"
      @done="(after($event), reload())"
      @close="looking = ''"
    />
    <FormDialog
      id="suspend-mail"
      v-model="suspending"
      :title="$t('Suspend mail')"
      :width="30"
      :action="$t('Suspend mail')"
      :ready="!!stop.why.trim() && (stop.sending || stop.receiving)"
      :busy="Boolean(stopping)"
      :dirty="stopTyped"
      :refusal="notStopped"
      @submit="suspendMail"
    >
      <p>{{ $t('The sites go on, and holders read what is there.') }}</p>
      <ElCheckbox v-model="stop.sending">{{ $t('Nothing is sent or passed on') }}</ElCheckbox>
      <ElCheckbox v-model="stop.receiving">{{ $t('Whoever writes is told to try again later') }}</ElCheckbox>
      <FormField
        :label="$t('Why')"
        for="suspend-mail-why"
        :error="stopError('why') ?? stopError('sending')"
        :hint="$t('Whoever looks at the account is told')"
        ><ElInput id="suspend-mail-why" v-model="stop.why" maxlength="500"
      /></FormField>
    </FormDialog>
    <p v-if="may('messages.read') && data.server" class="also">
      <RouterLink :to="{ path: '/messages', query: { account: name } }">{{ $t('What became of messages') }}</RouterLink>
      ·
      <RouterLink :to="{ path: '/messages/waiting', query: { account: name } }">{{
        $t('Messages that wait')
      }}</RouterLink>
    </p>
    <MailAddresses v-if="has || data.mailboxes.length" :change="!!change" />
    <MailLists v-if="has || data.mailboxes.length" :change="!!change" />
    <MailRehearsal v-if="mailed.length" :account="name" :domains="mailed" />
  </template>
</template>

<style scoped>
.stopped {
  border-inline-start: 4px solid var(--signal);
  background: var(--signal-wash);
  padding: 0.6rem 0.9rem;
  margin-block-end: 1.2rem;
}
.stopped p {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 1rem;
  align-items: center;
  margin: 0.2rem 0;
}
.also {
  margin-block: 0.6rem 0;
}
</style>
