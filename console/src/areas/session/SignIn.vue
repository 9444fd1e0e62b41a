<script setup lang="ts">
import { nextTick, ref, useTemplateRef, watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import { choose, chosen } from '../../language'
import LanguageChoice from '../../parts/LanguageChoice.vue'
import { session, signedIn, signingIn } from './state'

const name = ref('')
const password = ref('')
const code = ref('')
const wantsCode = ref(false)
const mailed = ref(false)
const { refusal, busy, act } = useAct()
const first = useTemplateRef<InstanceType<typeof ElInput>>('first')
const second = useTemplateRef<InstanceType<typeof ElInput>>('second')
const third = useTemplateRef<InstanceType<typeof ElInput>>('third')

watch(
  signingIn,
  async (on) => {
    if (!on) return
    wantsCode.value = mailed.value = false
    name.value ||= session.value?.name ?? ''
    await nextTick()
    if (name.value) second.value?.focus()
    else first.value?.focus()
  },
  { immediate: true },
)

async function submit() {
  await act(async () => {
    const body = {
      name: name.value,
      password: password.value,
      code: wantsCode.value ? code.value : undefined,
      language: chosen(),
    }
    const as = await ask(api.POST('/api/v1/session', { body }))
    password.value = code.value = ''
    wantsCode.value = false
    signedIn(as)
  })
  if (refusal.value?.kind === 'needs-code') {
    refusal.value = undefined
    wantsCode.value = true
    await nextTick()
    third.value?.focus()
  } else if (refusal.value) {
    code.value = ''
    if (wantsCode.value) third.value?.focus()
    else second.value?.select()
  }
}

const forgotten = () =>
  act(async () => {
    await ask(api.POST('/api/v1/session/forgotten', { body: { name: name.value } }))
    mailed.value = true
  })
</script>

<template>
  <div v-if="signingIn" class="cover" role="dialog" aria-modal="true" aria-labelledby="sign-in-title">
    <form class="card" @submit.prevent="submit">
      <p class="mark">{{ session?.title ?? 'Victualler' }}</p>
      <h1 id="sign-in-title">{{ session ? $t('Your session has ended') : $t('Sign in') }}</h1>
      <p v-if="session" class="quiet">{{ $t('Nothing you typed is lost. Sign in and go on.') }}</p>
      <template v-if="!wantsCode">
        <FormField :label="$t('Sign-in name')" for="sign-in-name">
          <ElInput
            id="sign-in-name"
            ref="first"
            v-model="name"
            autocomplete="username"
            spellcheck="false"
            autocapitalize="none"
          />
        </FormField>
        <FormField :label="$t('Password')" for="sign-in-password" :error="refusal?.message">
          <ElInput
            id="sign-in-password"
            ref="second"
            v-model="password"
            type="password"
            show-password
            autocomplete="current-password"
          />
        </FormField>
      </template>
      <FormField
        v-else
        :label="$t('Code')"
        for="sign-in-code"
        :error="refusal?.message"
        :hint="$t('From your authenticator, or one of your recovery codes')"
      >
        <ElInput
          id="sign-in-code"
          ref="third"
          v-model="code"
          autocomplete="one-time-code"
          inputmode="numeric"
          spellcheck="false"
        />
      </FormField>
      <ElButton
        native-type="submit"
        type="primary"
        :loading="Boolean(busy)"
        :disabled="!name || !password || (wantsCode && !code)"
        >{{ $t('Sign in') }}</ElButton
      >
      <p v-if="mailed" class="quiet" role="status">
        {{ $t('If there is a mail address for {name}, a link to set a new password is on its way there.', { name }) }}
      </p>
      <button v-else-if="wantsCode" type="button" class="link" @click="wantsCode = false">{{ $t('Back') }}</button>
      <button
        v-else
        type="button"
        class="link"
        :disabled="!name"
        :title="name ? undefined : $t('Type your sign-in name first')"
        @click="forgotten"
      >
        {{ $t('Forgotten the password?') }}
      </button>
      <p v-if="!session" class="quiet">
        <a href="/mailbox">{{ $t('Settings of your own mailbox') }}</a>
      </p>
      <LanguageChoice v-if="!session" class="languages" @choose="choose" />
    </form>
  </div>
</template>

<style scoped>
.cover {
  position: fixed;
  inset: 0;
  z-index: 3000;
  display: grid;
  place-items: center;
  padding: 1rem;
  background: var(--paper);
}
.card {
  width: min(22rem, 100%);
  display: grid;
  gap: 0.9rem;
  padding: 1.6rem;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-top: 4px solid var(--signal);
}
.mark {
  margin: 0;
  font: 600 1rem var(--serif);
  color: var(--signal);
}
h1,
.quiet {
  margin: 0;
}
.languages {
  padding-top: 0.6rem;
  border-top: 1px solid var(--line);
}
</style>
