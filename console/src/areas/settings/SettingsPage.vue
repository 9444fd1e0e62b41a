<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElCheckbox, ElCheckboxGroup, ElInput, ElOption, ElSelect } from 'element-plus'
import { api, ask, made } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import FormField from '../../parts/FormField.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may } from '../session/state'

const { data, refusal: missing } = useLoad(() => ask(api.GET('/api/v1/settings')))
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
    }),
)
const saved = ref(false)
watch(dirty, (now) => (saved.value = saved.value && !now))

const save = () =>
  act(async () => {
    const body = {
      title: form.title,
      console: form.console,
      name_servers: form.nameServers.split(/[\s,]+/).filter(Boolean),
      challenge_zone: form.challengeZone,
      domain_proof: form.domainProof,
      second_factor: form.secondFactor,
      session_minutes: Number(form.minutes),
      mail_server: form.mailServer,
      mail_security: form.mailSecurity,
      mail_name: form.mailName,
      mail_password: form.mailPassword || undefined,
      sender: form.sender,
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
  <PageHead title="Settings" about="What holds for the whole installation" />
  <ProblemNote :refusal="missing" />
  <form v-if="data" class="halves" @submit.prevent="save">
    <div class="form">
      <h2>People</h2>
      <FormField
        label="Title"
        for="title"
        :error="error('title')"
        hint="What the installation is called where people sign in"
        ><ElInput id="title" v-model="form.title" maxlength="100"
      /></FormField>
      <FormField
        label="Console"
        for="console-address"
        :error="error('console')"
        hint="Where people reach it; links in mail lead there"
        ><ElInput
          id="console-address"
          v-model="form.console"
          placeholder="https://console.ternisland.example"
          spellcheck="false"
      /></FormField>
      <FormField
        label="Name servers"
        for="name-servers"
        :error="error('name_servers')"
        hint="On handover sheets, to be entered at registrars"
        ><ElInput id="name-servers" v-model="form.nameServers" spellcheck="false"
      /></FormField>
      <FormField
        label="Zone for challenges"
        for="challenge-zone"
        :error="error('challenge_zone')"
        hint="A name in a zone of yours. Domains with DNS elsewhere point their challenge names below it"
        ><ElInput
          id="challenge-zone"
          v-model="form.challengeZone"
          placeholder="challenges.ternisland.example"
          spellcheck="false"
      /></FormField>
      <FormField
        label="Domains that customers and resellers bring"
        for="domain-proof"
        :error="error('domain_proof')"
        hint="Whose a domain is, DNS shows: it leads here, or has a record that we name"
        ><ElSelect id="domain-proof" v-model="form.domainProof"
          ><ElOption value="off" label="are served; nothing is asked" /><ElOption
            value="warn"
            label="are served, with a warning until DNS shows whose they are" /><ElOption
            value="require"
            label="are served when DNS shows whose they are"
        /></ElSelect>
      </FormField>
      <div>
        <h2 id="factor-title">A second factor is required of</h2>
        <ElCheckboxGroup v-model="form.secondFactor" aria-labelledby="factor-title"
          ><ElCheckbox value="operator">operators</ElCheckbox><ElCheckbox value="reseller">resellers</ElCheckbox
          ><ElCheckbox value="customer">customers</ElCheckbox></ElCheckboxGroup
        >
        <p v-if="error('second_factor')" class="warn">{{ error('second_factor') }}</p>
      </div>
      <FormField
        label="Minutes that a session lasts without use"
        for="minutes"
        :error="error('session_minutes')"
        hint="5 to 720; after 12 hours it ends however much it is used"
        ><ElInput id="minutes" v-model="form.minutes" type="number" min="5" max="720"
      /></FormField>
    </div>
    <div class="form">
      <h2>Mail</h2>
      <FormField
        label="Mail server"
        for="mail-server"
        :error="error('mail_server')"
        hint="Host and port of the server that takes notices; empty sends none"
        ><ElInput
          id="mail-server"
          v-model="form.mailServer"
          placeholder="mail.ternisland.example:587"
          spellcheck="false"
      /></FormField>
      <div class="pair">
        <FormField label="Security" for="mail-security" :error="error('mail_security')"
          ><ElSelect id="mail-security" v-model="form.mailSecurity"
            ><ElOption value="starttls" label="STARTTLS" /><ElOption value="tls" label="TLS" /><ElOption
              value="none"
              label="none" /></ElSelect
        ></FormField>
        <FormField label="Sender" for="sender" :error="error('sender')"
          ><ElInput id="sender" v-model="form.sender" type="email" placeholder="hosting@ternisland.example"
        /></FormField>
      </div>
      <div class="pair">
        <FormField label="Sign-in name there" for="mail-name"
          ><ElInput id="mail-name" v-model="form.mailName" autocomplete="off"
        /></FormField>
        <FormField
          label="Password there"
          for="mail-password"
          :hint="data?.mail_password ? 'One is set; empty leaves it' : undefined"
          ><ElInput
            id="mail-password"
            v-model="form.mailPassword"
            type="password"
            show-password
            autocomplete="new-password"
        /></FormField>
      </div>
      <ProblemNote :refusal="general" />
      <div v-if="may('settings.change')" class="acts">
        <ElButton native-type="submit" type="primary" :loading="Boolean(busy)">Save settings</ElButton
        ><span v-if="saved" role="status">● Saved</span>
      </div>
      <div v-if="may('settings.change') && data?.mail_server">
        <FormField
          label="Does mail go out?"
          for="test-to"
          :error="testing?.message"
          :hint="tested ? `The mail server has taken a message to ${tested}` : 'Sends a message at once'"
        >
          <span class="test"
            ><ElInput
              id="test-to"
              v-model="to"
              type="email"
              placeholder="you@ternisland.example"
              @keydown.enter.prevent="test"
            /><ElButton :disabled="!to" :loading="Boolean(sending)" @click="test">Send</ElButton></span
          >
        </FormField>
      </div>
    </div>
  </form>
</template>

<style scoped>
.test {
  display: flex;
  gap: 0.4rem;
}
</style>
