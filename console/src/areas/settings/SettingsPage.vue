<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElCheckbox, ElCheckboxGroup, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, made } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { useUnsaved } from '../../composables/useUnsaved'
import FormField from '../../parts/FormField.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'

const {
  data,
  outdated,
  refusal: missing,
  showLatest,
} = useLoad(() => ask(api.GET('/api/v1/settings')), { live: true, editing: () => dirty.value })
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({
  title: '',
  console: '',
  nameServers: '',
  challengeZone: '',
  domainProof: 'off' as 'off' | 'warn' | 'require',
  secondFactor: [] as string[],
  minutes: 60,
  mailServer: '',
  mailSecurity: 'starttls' as 'tls' | 'starttls' | 'none',
  mailName: '',
  mailPassword: '',
  sender: '',
  junkAbove: '6',
  refuseAbove: '15',
  mailDays: '',
  greylisting: false,
  blocklists: '',
  forbidden: '',
  scanner: '',
}))
watch(
  data,
  (s) =>
    s &&
    reset({
      title: s.title,
      console: s.console,
      nameServers: s.name_servers.join(', '),
      challengeZone: s.challenge_zone ?? '',
      domainProof: s.domain_proof,
      secondFactor: [...s.second_factor],
      minutes: s.session_minutes,
      mailServer: s.mail_server,
      mailSecurity: s.mail_security,
      mailName: s.mail_name ?? '',
      mailPassword: '',
      sender: s.sender,
      junkAbove: String(s.spam.junk_above),
      refuseAbove: String(s.spam.refuse_above),
      mailDays: String(s.mail_days),
      greylisting: s.spam.greylisting,
      blocklists: s.spam.blocklists.join(', '),
      forbidden: s.spam.forbidden.join(', '),
      scanner: s.spam.scanner,
    }),
)
const saved = ref(false)
useUnsaved(() => dirty.value)
watch(dirty, (now) => (saved.value = saved.value && !now))

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)
const save = () =>
  act(async () => {
    const body = {
      title: form.title,
      console: form.console,
      name_servers: words(form.nameServers),
      challenge_zone: form.challengeZone,
      domain_proof: form.domainProof,
      second_factor: form.secondFactor,
      session_minutes: Number(form.minutes),
      mail_server: form.mailServer,
      mail_security: form.mailSecurity,
      mail_name: form.mailName,
      mail_password: form.mailPassword || undefined,
      sender: form.sender,
      mail_days: Number(form.mailDays),
      spam: {
        junk_above: Number(form.junkAbove),
        refuse_above: Number(form.refuseAbove),
        greylisting: form.greylisting,
        blocklists: words(form.blocklists),
        forbidden: words(form.forbidden),
        scanner: form.scanner,
      },
    }
    data.value = await made(
      api.PATCH('/api/v1/settings', { params: { header: { 'If-Match': `"${data.value?.version}"` } }, body }),
    )
    saved.value = true
  })

const to = ref('')
const tested = ref('')
const { refusal: testing, busy: sending, act: actTest } = useAct()
const test = () =>
  actTest(async () => {
    tested.value = ''
    await ask(api.POST('/api/v1/settings/test-mail', { body: { to: to.value } }))
    tested.value = to.value
  })
</script>

<template>
  <PageHead :title="$t('Settings')" :about="$t('What holds for the whole installation')" />
  <ProblemNote :refusal="missing" />
  <form v-if="data" class="halves" @submit.prevent="save">
    <div class="form">
      <h2>{{ $t('People') }}</h2>
      <FormField
        :label="$t('Title')"
        for="title"
        :error="error('title')"
        :hint="$t('What the installation is called where people sign in')"
        ><ElInput id="title" v-model="form.title" maxlength="100"
      /></FormField>
      <FormField
        :label="$t('Console')"
        for="console-address"
        :error="error('console')"
        :hint="$t('Where people reach it; links in mail lead there')"
        ><ElInput
          id="console-address"
          v-model="form.console"
          placeholder="https://console.ternisland.example"
          spellcheck="false"
      /></FormField>
      <FormField
        :label="$t('Name servers')"
        for="name-servers"
        :error="error('name_servers')"
        :hint="$t('On handover sheets, to be entered at registrars')"
        ><ElInput id="name-servers" v-model="form.nameServers" spellcheck="false"
      /></FormField>
      <FormField
        :label="$t('Zone for challenges')"
        for="challenge-zone"
        :error="error('challenge_zone')"
        :hint="$t('A name in a zone of yours. Domains with DNS elsewhere point their challenge names below it')"
        ><ElInput
          id="challenge-zone"
          v-model="form.challengeZone"
          placeholder="challenges.ternisland.example"
          spellcheck="false"
      /></FormField>
      <FormField
        :label="$t('Domains that customers and resellers bring')"
        for="domain-proof"
        :error="error('domain_proof')"
        :hint="$t('Whose a domain is, DNS shows: it leads here, or has a record that we name')"
        ><ElSelect id="domain-proof" v-model="form.domainProof"
          ><ElOption value="off" :label="$t('are served; nothing is asked')" /><ElOption
            value="warn"
            :label="$t('are served, with a warning until DNS shows whose they are')" /><ElOption
            value="require"
            :label="$t('are served when DNS shows whose they are')"
        /></ElSelect>
      </FormField>
      <div>
        <h2 id="factor-title">{{ $t('A second factor is required of') }}</h2>
        <ElCheckboxGroup v-model="form.secondFactor" aria-labelledby="factor-title"
          ><ElCheckbox value="operator">{{ $t('operators') }}</ElCheckbox
          ><ElCheckbox value="reseller">{{ $t('resellers') }}</ElCheckbox
          ><ElCheckbox value="customer">{{ $t('customers') }}</ElCheckbox></ElCheckboxGroup
        >
        <p v-if="error('second_factor')" class="warn">{{ error('second_factor') }}</p>
      </div>
      <FormField
        :label="$t('Minutes that a session lasts without use')"
        for="minutes"
        :error="error('session_minutes')"
        :hint="$t('5 to 720; after 12 hours it ends however much it is used')"
        ><ElInput id="minutes" v-model="form.minutes" type="number" min="5" max="720"
      /></FormField>
    </div>
    <div class="form">
      <h2>{{ $t('Mail') }}</h2>
      <FormField
        :label="$t('Mail server')"
        for="mail-server"
        :error="error('mail_server')"
        :hint="$t('Host and port of the server that takes notices; empty sends none')"
        ><ElInput
          id="mail-server"
          v-model="form.mailServer"
          placeholder="mail.ternisland.example:587"
          spellcheck="false"
      /></FormField>
      <div class="pair">
        <FormField :label="$t('Security')" for="mail-security" :error="error('mail_security')"
          ><ElSelect id="mail-security" v-model="form.mailSecurity"
            ><ElOption value="starttls" label="STARTTLS" /><ElOption value="tls" label="TLS" /><ElOption
              value="none"
              :label="$t('none')" /></ElSelect
        ></FormField>
        <FormField :label="$t('Sender')" for="sender" :error="error('sender')"
          ><ElInput id="sender" v-model="form.sender" type="email" placeholder="hosting@ternisland.example"
        /></FormField>
      </div>
      <div class="pair">
        <FormField :label="$t('Sign-in name there')" for="mail-name"
          ><ElInput id="mail-name" v-model="form.mailName" autocomplete="off"
        /></FormField>
        <FormField
          :label="$t('Password there')"
          for="mail-password"
          :hint="data?.mail_password ? $t('One is set; empty leaves it') : undefined"
          ><ElInput
            id="mail-password"
            v-model="form.mailPassword"
            type="password"
            show-password
            autocomplete="new-password"
        /></FormField>
      </div>
      <h2>{{ $t('Mail of accounts') }}</h2>
      <FormField
        :label="$t('Undelivered messages wait')"
        for="mail-days"
        :error="error('mail_days')"
        :hint="$t('Days; then they go back to their senders')"
        ><ElInput id="mail-days" v-model="form.mailDays" type="number" min="1" max="14"
      /></FormField>
      <h2>{{ $t('Unwanted mail') }}</h2>
      <p class="quiet lead">
        {{
          $t('Each message to a mailbox here gets a score; a usual one has about none. Servers follow within a minute.')
        }}
      </p>
      <div class="pair">
        <FormField
          :label="$t('Goes to Junk from')"
          for="junk-above"
          :error="error('spam.junk_above')"
          :hint="$t('Points')"
          ><ElInput id="junk-above" v-model="form.junkAbove" type="number" min="1" max="100" step="0.1"
        /></FormField>
        <FormField
          :label="$t('Is refused from')"
          for="refuse-above"
          :error="error('spam.refuse_above')"
          :hint="$t('Points; nor is it sent')"
          ><ElInput id="refuse-above" v-model="form.refuseAbove" type="number" min="1" max="100" step="0.1"
        /></FormField>
      </div>
      <FormField
        :label="$t('Attachments that are refused')"
        for="forbidden"
        :error="error('spam.forbidden')"
        :hint="$t('What their names end with')"
        ><ElInput id="forbidden" v-model="form.forbidden" type="textarea" autosize spellcheck="false"
      /></FormField>
      <FormField
        :label="$t('Blocklists')"
        for="blocklists"
        :error="error('spam.blocklists')"
        :hint="$t('Zones of DNS that name addresses which nothing is taken from')"
        ><ElInput id="blocklists" v-model="form.blocklists" spellcheck="false"
      /></FormField>
      <FormField
        :label="$t('Virus scanner')"
        for="scanner"
        :error="error('spam.scanner')"
        :hint="$t('A path on the mail servers or host:port, where one answers as clamd does')"
        ><ElInput id="scanner" v-model="form.scanner" spellcheck="false"
      /></FormField>
      <ElCheckbox v-model="form.greylisting">{{
        $t('Suspicious messages must be sent once more, minutes later')
      }}</ElCheckbox>
      <OutdatedNote v-if="outdated" @show="showLatest" />
      <ProblemNote :refusal="general" />
      <div v-if="may('settings.change')" class="acts">
        <ElButton native-type="submit" type="primary" :loading="Boolean(busy)">{{ $t('Save settings') }}</ElButton><span
          v-if="saved"
          role="status"
          >{{ $t('● Saved') }}</span
        >
      </div>
      <div v-if="may('settings.change') && data?.mail_server">
        <FormField
          :label="$t('Does mail go out?')"
          for="test-to"
          :error="testing?.message"
          :hint="
            tested ? $t('The mail server has taken a message to {tested}', { tested }) : $t('Sends a message at once')
          "
        >
          <span class="test"
            ><ElInput
              id="test-to"
              v-model="to"
              type="email"
              placeholder="you@ternisland.example"
              @keydown.enter.prevent="test"
            /><ElButton :disabled="!to" :loading="Boolean(sending)" @click="test">{{ $t('Send') }}</ElButton></span
          >
        </FormField>
      </div>
    </div>
  </form>
</template>

<style scoped>
.lead {
  margin: -0.6rem 0 0;
}
.test {
  display: flex;
  gap: 0.4rem;
}
</style>
