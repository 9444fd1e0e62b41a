<script setup lang="ts">
import { computed, nextTick, ref, watch } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StripFact from '../../parts/StripFact.vue'
import { confirmed } from '../../parts/confirm'
import { addressList, amount, readAmount } from '../../words'
import { may } from '../session/state'
import { useAccount } from './useAccount'
import { t } from '../../language'
import AddressInput from './AddressInput.vue'
import MailAddresses from './MailAddresses.vue'

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
const { form, general, error, busy, act, reset } = useForm(
  () => ({
    local: '',
    domain: '',
    password: '',
    size: '',
    forwards: '',
    sends: '',
    reply: '',
    replySubject: '',
    replyFrom: '',
    replyUntil: '',
  }),
  shown,
)
const { refusal: acting, act: actRow, busy: acts } = useAct()
const wrongSize = ref('')
watch(
  () => form.size,
  () => (wrongSize.value = ''),
)

const domains = computed(() => account.value?.domains ?? [])
async function begin(of?: Mailbox) {
  mailbox.value = of
  shown.value = true
  await nextTick() // the form begins anew when its dialog opens
  reset({
    domain: of?.domain ?? domains.value.find((d) => d.main)?.name ?? domains.value[0]?.name,
    size: of?.size ? amount(of.size, 'bytes') : '',
    forwards: of?.forward_to.join('\n') ?? '',
    sends: of?.sends_per_hour?.toString() ?? '',
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
/** A moment as the day that a date field has, moved by days, and back: the last day of an absence ends with it. */
function localDay(moment: string | undefined, plus = 0) {
  if (!moment) return ''
  const d = new Date(moment)
  d.setDate(d.getDate() + plus)
  return [d.getFullYear(), d.getMonth() + 1, d.getDate()].map((n) => String(n).padStart(2, '0')).join('-')
}
function momentOf(day: string, plus = 0) {
  if (!day) return undefined
  const d = new Date(`${day}T00:00:00`)
  d.setDate(d.getDate() + plus)
  return d.toISOString()
}
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
/** Why nothing is sent, if so. */
const stopped = computed(() => account.value?.warnings.find((w) => w.code === 'sending-stopped'))
const release = () =>
  actRow(async () => {
    await made(api.POST('/api/v1/accounts/{account}/release-sending', { params: { path: { account: name.value } } }))
    after()
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
    <div class="titled">
      <h2>{{ $t('Mailboxes') }}</h2>
      <ElButton v-if="change" type="primary" @click="begin()">{{ $t('Add a mailbox') }}</ElButton>
    </div>
    <p v-if="!has" class="quiet">{{ $t('Mail is not part of what this account may use.') }}</p>
    <FactStrip v-if="data.server">
      <StripFact :name="$t('Server for mail programs')"
        ><code>{{ data.server }}</code></StripFact
      >
      <StripFact :name="$t('Reading')">{{ $t('IMAP, port 993, or POP3, port 995, with TLS') }}</StripFact>
      <StripFact :name="$t('Sending')">{{ $t('port 465 with TLS') }}</StripFact>
      <StripFact :name="$t('Sign-in name')">{{ $t('the whole address') }}</StripFact>
    </FactStrip>
    <ProblemNote :refusal="acting" />
    <DataTable :id="(b) => b.address" :columns="columns" :rows="data.mailboxes" :caption="$t('Mailboxes')">
      <template #address="{ row }"
        ><code>{{ row.unicode }}</code
        ><template v-if="row.reply"
          >{{ ' ' }}<span class="quiet">{{ $t('absence reply') }}</span></template
        ></template
      >
      <template #acts="{ row }"
        ><template v-if="change"
          ><button
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
    <ElDialog
      v-model="shown"
      :title="mailbox ? $t('Change {name}', { name: mailbox.unicode }) : $t('Add a mailbox')"
      width="min(34rem, 94vw)"
    >
      <form id="mailbox" class="form" @submit.prevent="save">
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
          v-if="shown"
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
          :label="$t('Also passed on to')"
          for="mailbox-forwards"
          :error="error('forward_to') ?? error('targets')"
          :hint="$t('One address in a line; messages are stored here as well')"
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
        <ProblemNote :refusal="general" />
      </form>
      <template #footer
        ><ElButton @click="shown = false">{{ $t('Cancel') }}</ElButton
        ><ElButton
          type="primary"
          native-type="submit"
          form="mailbox"
          :loading="busy === 'save'"
          :disabled="!mailbox && !form.local.trim()"
          >{{ mailbox ? $t('Save mailbox') : $t('Add mailbox') }}</ElButton
        ></template
      >
    </ElDialog>
    <p v-if="may('messages.read') && data.server" class="also">
      <RouterLink :to="{ path: '/messages', query: { account: name } }">{{ $t('What became of messages') }}</RouterLink>
      ·
      <RouterLink :to="{ path: '/messages/waiting', query: { account: name } }">{{
        $t('Messages that wait')
      }}</RouterLink>
    </p>
    <MailAddresses v-if="has || data.mailboxes.length" :change="!!change" />
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
