<script setup lang="ts">
import { nextTick, ref, useTemplateRef, watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import { session, signedIn, signingIn } from './state'

const name = ref('')
const password = ref('')
const { refusal, busy, act } = useAct()
const first = useTemplateRef<InstanceType<typeof ElInput>>('first')
const second = useTemplateRef<InstanceType<typeof ElInput>>('second')

watch(
  signingIn,
  async (on) => {
    if (!on) return
    name.value ||= session.value?.name ?? ''
    await nextTick()
    if (name.value) second.value?.focus()
    else first.value?.focus()
  },
  { immediate: true },
)

async function submit() {
  await act(async () => {
    const as = await ask(api.POST('/api/v1/session', { body: { name: name.value, password: password.value } }))
    password.value = ''
    signedIn(as)
  })
  if (refusal.value) second.value?.select()
}
</script>

<template>
  <div v-if="signingIn" class="cover" role="dialog" aria-modal="true" aria-labelledby="sign-in-title">
    <form class="card" @submit.prevent="submit">
      <p class="mark">Victualler</p>
      <h1 id="sign-in-title">{{ session ? 'Your session has ended' : 'Sign in' }}</h1>
      <p v-if="session" class="quiet">Nothing you typed is lost. Sign in and go on.</p>
      <FormField label="Sign-in name" for="sign-in-name">
        <ElInput id="sign-in-name" ref="first" v-model="name" autocomplete="username" spellcheck="false" autocapitalize="none" />
      </FormField>
      <FormField label="Password" for="sign-in-password" :error="refusal?.message">
        <ElInput id="sign-in-password" ref="second" v-model="password" type="password" show-password autocomplete="current-password" />
      </FormField>
      <ElButton native-type="submit" type="primary" :loading="Boolean(busy)" :disabled="!name || !password">Sign in</ElButton>
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
</style>
