<script setup lang="ts">
import { ref, shallowRef } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { moment } from '../../words'
import LanguageChoice from '../../parts/LanguageChoice.vue'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { choose, chosen, language } from '../../language'
import { signedIn } from './state'

/** Where one-time links lead. What is behind # is sent to the service only, and taken out of the address at once. */
const router = useRouter()
const link = location.hash.slice(1)
history.replaceState(history.state, '', location.pathname)

const purpose = shallowRef<Schemas['LinkPurpose']>()
const password = ref('')
const code = ref('')
const wantsCode = ref(false)
const { refusal, busy, act } = useAct()

void act(async () => {
  purpose.value = await ask(api.POST('/api/v1/session/check-link', { body: { link: link || 'none' } }))
})

/** The page is loaded anew in another language, so the link has to be in its address once more. */
function speak(tag: string) {
  if (tag === language) return
  history.replaceState(history.state, '', `${location.pathname}#${link}`)
  choose(tag)
}

async function submit() {
  await act(async () => {
    const body = { link, password: password.value || undefined, code: code.value || undefined, language: chosen() }
    signedIn(await ask(api.POST('/api/v1/session/link', { body })))
    await router.replace('/')
  })
  if (refusal.value?.kind === 'needs-code') {
    wantsCode.value = true
    refusal.value = undefined
  }
}
</script>

<template>
  <form class="card" @submit.prevent="submit">
    <template v-if="purpose">
      <h1>{{ purpose.purpose === 'password' ? $t('Choose a password') : $t('Sign in') }}</h1>
      <p class="quiet">
        <i18n-t keypath="For the sign-in name {name}. The link works once, until {ends}." scope="global" tag="span"
          ><template #name
            ><code>{{ purpose.name }}</code></template
          ><template #ends>{{ moment(purpose.ends_at) }}</template></i18n-t
        >
      </p>
      <NewPassword
        v-if="purpose.purpose === 'password'"
        v-model="password"
        :about="[purpose.name]"
        :error="refusal?.field('password')"
      />
      <FormField
        v-if="wantsCode"
        :label="$t('Code')"
        for="link-code"
        :hint="$t('From your authenticator, or one of your recovery codes')"
      >
        <ElInput id="link-code" v-model="code" autocomplete="one-time-code" />
      </FormField>
      <ProblemNote v-if="!refusal?.field('password')" :refusal="refusal" />
      <ElButton
        native-type="submit"
        type="primary"
        :loading="Boolean(busy)"
        :disabled="purpose.purpose === 'password' && !password"
      >
        {{ purpose.purpose === 'password' ? $t('Set the password and sign in') : $t('Sign in') }}
      </ElButton>
    </template>
    <template v-else-if="refusal">
      <h1>{{ refusal.problem.title }}</h1>
      <p>{{ refusal.message }}</p>
      <p>
        <RouterLink to="/accounts">{{ $t('Sign in with name and password') }}</RouterLink>
      </p>
    </template>
    <LanguageChoice class="languages" @choose="speak" />
  </form>
</template>

<style scoped>
.card {
  max-width: 26rem;
  margin: 8vh auto 0;
  display: grid;
  gap: 0.9rem;
  padding: 1.6rem;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-top: 4px solid var(--signal);
}
h1,
p {
  margin: 0;
}
.languages {
  padding-top: 0.6rem;
  border-top: 1px solid var(--line);
}
</style>
