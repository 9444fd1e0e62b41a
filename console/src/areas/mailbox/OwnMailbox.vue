<script setup lang="ts">
import { ref, shallowRef } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask, made, Refusal, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { choose } from '../../language'
import FailedSignIns from '../../parts/FailedSignIns.vue'
import FormField from '../../parts/FormField.vue'
import LanguageChoice from '../../parts/LanguageChoice.vue'
import MailSettings from '../../parts/MailSettings.vue'
import OpenCard from '../../parts/OpenCard.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import ProgramPasswords from '../../parts/ProgramPasswords.vue'
import OwnAbsence from './OwnAbsence.vue'
import OwnFilters from './OwnFilters.vue'
import OwnForward from './OwnForward.vue'
import OwnMailPassword from './OwnMailPassword.vue'
import OwnMessages from './OwnMessages.vue'
import OwnWay from './OwnWay.vue'

/** What the holder of a mailbox sees and changes; they sign in with its address and password. */
const own = shallowRef<Schemas['OwnMailbox']>()
const asked = ref(false)
const address = ref('')
const password = ref('')
const { refusal, busy, act } = useAct()
const { refusal: failed, act: actLoad } = useAct()

const load = () =>
  actLoad(async () => {
    try {
      own.value = await ask(api.GET('/api/v1/mailbox'))
    } catch (err) {
      if (!(err instanceof Refusal) || err.kind !== 'not-signed-in') throw err
      own.value = undefined
    }
    asked.value = true
  })
void load()

const signIn = () =>
  act(async () => {
    await ask(api.POST('/api/v1/mailbox/session', { body: { address: address.value, password: password.value } }))
    password.value = ''
    await load()
  })
const signOut = () =>
  act(async () => {
    await ask(api.DELETE('/api/v1/mailbox/session'))
    own.value = undefined
  })

async function change(body: Schemas['OwnMailboxChange']) {
  const version = own.value?.mailbox.version
  await made(api.PATCH('/api/v1/mailbox', { params: { header: { 'If-Match': `"${version}"` } }, body }))
  await load()
}
async function addPassword(name: string) {
  const outcome = await made(api.POST('/api/v1/mailbox/passwords', { body: { name } }))
  await load()
  return outcome
}
async function removePassword(program: string) {
  await made(api.DELETE('/api/v1/mailbox/passwords/{program}', { params: { path: { program } } }))
  await load()
}
</script>

<template>
  <ProblemNote :refusal="failed" />
  <OpenCard v-if="asked && !own" @submit="signIn">
    <h1>{{ $t('Your mailbox') }}</h1>
    <p class="quiet">{{ $t('Absence, filters, passing on and passwords. Sign in as your mail program does.') }}</p>
    <FormField :label="$t('Address')" for="mailbox-address">
      <ElInput
        id="mailbox-address"
        v-model="address"
        type="email"
        autocomplete="username"
        spellcheck="false"
        autocapitalize="none"
      />
    </FormField>
    <FormField :label="$t('Password')" for="mailbox-password" :error="refusal?.message">
      <ElInput id="mailbox-password" v-model="password" type="password" show-password autocomplete="current-password" />
    </FormField>
    <ElButton
      native-type="submit"
      type="primary"
      :loading="Boolean(busy)"
      :disabled="!address.includes('@') || !password"
      >{{ $t('Sign in') }}</ElButton
    >
    <LanguageChoice @choose="choose" />
  </OpenCard>
  <div v-else-if="own" class="own">
    <header>
      <div>
        <p class="quiet">{{ own.title }}</p>
        <h1>{{ own.mailbox.unicode }}</h1>
      </div>
      <ElButton :loading="Boolean(busy)" @click="signOut">{{ $t('Sign out') }}</ElButton>
    </header>
    <section>
      <h2>{{ $t('Absence') }}</h2>
      <OwnAbsence :reply="own.mailbox.reply" :change="change" />
    </section>
    <section>
      <h2>{{ $t('Filters') }}</h2>
      <OwnFilters :filters="own.mailbox.filters" :change="change" />
    </section>
    <section>
      <h2>{{ $t('Passing on') }}</h2>
      <OwnForward :targets="own.mailbox.forward_to" :change="change" />
    </section>
    <section>
      <h2>{{ $t('Where are my messages?') }}</h2>
      <OwnWay />
      <OwnMessages :address="own.mailbox.address" />
    </section>
    <section>
      <h2>{{ $t('Password') }}</h2>
      <FailedSignIns :failures="own.mailbox.failed_sign_ins" />
      <OwnMailPassword :change="change" />
    </section>
    <section>
      <h2>{{ $t('Passwords for programs') }}</h2>
      <ProgramPasswords :programs="own.mailbox.programs" :change="true" :add="addPassword" :remove="removePassword" />
    </section>
    <section>
      <h2>{{ $t('What a mail program needs') }}</h2>
      <MailSettings :address="own.mailbox.address" :server="own.server" profile="/api/v1/mailbox/profile" />
    </section>
  </div>
</template>

<style scoped>
.own {
  max-width: 44rem;
  margin: 0 auto;
  padding: 1.2rem 1rem 3rem;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: end;
  gap: 1rem;
  border-block-end: 2px solid var(--signal);
  padding-block-end: 0.6rem;
}
header h1 {
  font-size: clamp(1.1rem, 4.5vw, 1.6rem);
}
header p,
header h1 {
  margin: 0;
  overflow-wrap: anywhere;
}
section {
  padding-block: 0.9rem;
  border-block-end: 1px solid var(--line);
}
section :deep(form > p:last-child) {
  margin-block: 0.5rem 0;
}
section h2 {
  margin: 0 0 0.5rem;
  font-size: 1.1rem;
}
</style>
