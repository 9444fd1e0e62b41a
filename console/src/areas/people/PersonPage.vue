<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import { useRouter } from 'vue-router'
import { named } from '../../codes'
import { api, ask, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { ago, moment } from '../../words'
import FactList from '../../parts/FactList.vue'
import FormDialog from '../../parts/FormDialog.vue'
import LanguagePick from '../../parts/LanguagePick.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import OutdatedNote from '../../parts/OutdatedNote.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { may, session } from '../session/state'
import { duties } from './duties'
import { confirmed } from '../../parts/confirm'
import { useCopy } from '../../composables/useCopy'
import { useUnsaved } from '../../composables/useUnsaved'
import { t } from '../../language'

const props = defineProps<{ person: string }>()
const router = useRouter()
const path = computed(() => ({ person: props.person }))
const {
  data,
  outdated,
  refusal: missing,
  reload,
  showLatest,
} = useLoad(() => ask(api.GET('/api/v1/people/{person}', { params: { path: path.value } })), {
  on: path,
  live: true,
  editing: () => dirty.value,
})
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({
  email: '',
  language: 'en',
  duty: 'all' as keyof typeof duties,
  readOnly: false,
  networks: '',
}))
const saved = useUnsaved(() => dirty.value)
watch(
  data,
  (p) =>
    p &&
    reset({
      email: p.email ?? '',
      language: p.language,
      duty: p.duty,
      readOnly: p.read_only,
      networks: p.networks.join(', '),
    }),
)
const me = computed(() => data.value?.name === session.value?.name)
const mine = computed(() => may('people.change') && !me.value)

const save = () =>
  act(async () => {
    const body = {
      email: form.email.trim(),
      language: form.language,
      duty: form.duty,
      read_only: form.readOnly,
      networks: form.networks.split(/[\s,]+/).filter(Boolean),
    }
    data.value = await made(
      api.PATCH('/api/v1/people/{person}', {
        params: { path: path.value, header: { 'If-Match': `"${data.value?.version}"` } },
        body,
      }),
    )
  }, 'save')

const link = shallowRef<Schemas['Link']>()
const makeLink = (purpose: 'password' | 'sign-in', mail: boolean) =>
  act(async () => {
    link.value = await made(
      api.POST('/api/v1/people/{person}/links', { params: { path: path.value }, body: { purpose, mail } }),
    )
  }, purpose + mail)
const { copied, copy } = useCopy(() => link.value?.url ?? '')

const giving = ref(false)
const password = ref('')
const mustChange = ref(true)
const givePassword = () =>
  act(async () => {
    await ask(
      api.PUT('/api/v1/people/{person}/password', {
        params: { path: path.value },
        body: { password: password.value, must_change: mustChange.value },
      }),
    )
    giving.value = false
    password.value = ''
    await reload()
  }, 'password')
const after = (question: string, what: string, does: () => Promise<unknown>) =>
  act(async () => {
    if (!(await confirmed(question, t('Continue')))) return
    await does()
    await reload()
  }, what)
const signOut = () =>
  after(t('End all sessions of {person}?', { person: props.person }), 'out', () =>
    ask(api.DELETE('/api/v1/people/{person}/sessions', { params: { path: path.value } })),
  )
const unlock = () =>
  after(t('Switch the second factor of {person} off?', { person: props.person }), 'factor', () =>
    ask(api.DELETE('/api/v1/people/{person}/second-factor', { params: { path: path.value } })),
  )
const remove = () =>
  act(async () => {
    if (
      !(await confirmed(t('Remove {person}? Sessions and tokens end at once.', { person: props.person }), t('Remove')))
    )
      return
    await ask(api.DELETE('/api/v1/people/{person}', { params: { path: path.value } }))
    saved()
    await router.push('/people')
  }, 'remove')

const facts = computed<[string, string][]>(() => {
  const p = data.value
  if (!p) return []
  const all: [string, string | undefined][] = [
    [t('Role'), named(p.role)],
    [t('Customer'), p.customer],
    [t('Reseller'), p.reseller],
    [t('Password'), p.password ? (p.must_change ? t('has to be changed first') : t('set')) : t('none yet')],
    [t('Second factor'), p.second_factor ? t('on') : t('off')],
    [t('Last seen'), ago(p.seen_at)],
    [t('Since'), moment(p.since)],
  ]
  return all.filter((f): f is [string, string] => Boolean(f[1]))
})
</script>

<template>
  <NotHere v-if="!data && missing" :refusal="missing" to="/people" :label="$t('All people')" />
  <template v-if="data">
    <PageHead :title="data.name" :about="me ? $t('That is you') : undefined">
      <template #above
        ><RouterLink to="/people">{{ $t('People') }}</RouterLink></template
      >
      <template v-if="mine">
        <ElButton @click="((giving = true), (password = ''))">{{ $t('New password…') }}</ElButton>
        <ElButton v-if="data.email" :loading="busy === 'passwordtrue'" @click="makeLink('password', true)">{{
          $t('Mail a password link')
        }}</ElButton>
        <ElButton :loading="busy === 'sign-infalse'" @click="makeLink('sign-in', false)">{{
          $t('One-time sign-in link')
        }}</ElButton>
        <ElButton :loading="busy === 'out'" @click="signOut">{{ $t('End sessions') }}</ElButton>
        <ElButton v-if="data.second_factor" :loading="busy === 'factor'" @click="unlock">{{
          $t('Reset second factor')
        }}</ElButton>
        <ElButton :loading="busy === 'remove'" @click="remove">{{ $t('Remove…') }}</ElButton>
      </template>
      <RouterLink v-if="me" to="/me">{{ $t('Your sign-in') }}</RouterLink>
    </PageHead>
    <div v-if="link" class="link-note" role="status">
      <template v-if="link.url">
        <p>{{ $t('This link works once, until {ends}. It is shown only now.', { ends: moment(link.ends_at) }) }}</p>
        <div class="acts">
          <code>{{ link.url }}</code><ElButton size="small" @click="copy">{{
            copied ? $t('Copied') : $t('Copy')
          }}</ElButton>
        </div>
      </template>
      <p v-else>
        {{
          $t('A link is on its way to {mailed}; it works once, until {ends}.', {
            mailed: link.mailed,
            ends: moment(link.ends_at),
          })
        }}
      </p>
    </div>
    <ProblemNote v-if="!giving" :refusal="general" />
    <OutdatedNote v-if="outdated" @show="showLatest" />
    <div class="halves">
      <form class="form" @submit.prevent="save">
        <FormField
          :label="$t('Mail address')"
          for="email"
          :error="error('email')"
          :hint="$t('For links and notices about the sign-in')"
          ><ElInput id="email" v-model="form.email" type="email" autocomplete="off" :readonly="!may('people.change')"
        /></FormField>
        <FormField :label="$t('Language of notices')" for="language"
          ><LanguagePick id="language" v-model="form.language"
        /></FormField>
        <FormField
          v-if="data.role === 'operator'"
          :label="$t('Duty')"
          for="duty"
          :hint="duties[form.duty]"
          :error="error('duty')"
        >
          <ElSelect id="duty" v-model="form.duty"
            ><ElOption v-for="duty in Object.keys(duties)" :key="duty" :value="duty" :label="duty"
          /></ElSelect>
        </FormField>
        <FormField
          :label="$t('Networks')"
          for="networks"
          :error="error('networks')"
          :hint="$t('From where they may sign in, such as 192.0.2.0/24; empty is from anywhere')"
          ><ElInput id="networks" v-model="form.networks" spellcheck="false"
        /></FormField>
        <ElCheckbox v-model="form.readOnly" :disabled="me">{{ $t('Read-only: may look, not change') }}</ElCheckbox>
        <div v-if="may('people.change')" class="acts">
          <ElButton native-type="submit" type="primary" :loading="busy === 'save'">{{ $t('Save changes') }}</ElButton>
        </div>
      </form>
      <div><FactList :facts="facts" /></div>
    </div>
    <FormDialog
      id="give"
      v-model="giving"
      :title="$t('New password of {name}', { name: data.name })"
      :width="32"
      :action="$t('Set the password')"
      :ready="!!password"
      :busy="busy === 'password'"
      :dirty="!!password"
      :refusal="general"
      @submit="givePassword"
    >
      <NewPassword v-model="password" :about="[data.name, data.email ?? '']" :error="error('password')" />
      <ElCheckbox v-model="mustChange">{{ $t('Has to be changed at the next sign-in') }}</ElCheckbox>
      <p class="quiet">{{ $t('All their sessions end.') }}</p>
    </FormDialog>
  </template>
</template>

<style scoped>
.link-note {
  margin-bottom: 1rem;
  padding: 0.6rem 0.9rem;
  background: var(--sheet);
  border: 1px dashed var(--ink-2);
}
.link-note p {
  margin: 0;
}
code {
  overflow-wrap: anywhere;
}
</style>
