<script setup lang="ts">
import { computed, ref, shallowRef } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import { moment } from '../../words'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { session } from '../session/state'
import { useCopy } from '../../composables/useCopy'

/**
 * Your second factor: set up with a QR code and a first code, with recovery codes for the day when the
 * authenticator is lost.
 */
const { data, reload } = useLoad(() => ask(api.GET('/api/v1/second-factor')))
const setup = shallowRef<Schemas['SecondFactorSetup']>()
const codes = shallowRef<string[]>()
const code = ref('')
const password = ref('')
const proving = ref<'' | 'drop' | 'renew'>('')
const { refusal, busy, act } = useAct()
const image = computed(() => setup.value && `data:image/svg+xml;base64,${btoa(setup.value.image)}`)

const start = () =>
  act(async () => {
    setup.value = await made(api.POST('/api/v1/second-factor'))
  }, 'start')
const confirmIt = () =>
  act(async () => {
    codes.value = (await made(api.POST('/api/v1/second-factor/confirm', { body: { code: code.value } }))).codes
    setup.value = undefined
    code.value = ''
    await reload()
  }, 'confirm')
const prove = () =>
  act(async () => {
    const body = { password: password.value }
    if (proving.value === 'renew')
      codes.value = (await made(api.POST('/api/v1/second-factor/recovery-codes', { body }))).codes
    else await ask(api.POST('/api/v1/second-factor/drop', { body }))
    password.value = proving.value = ''
    await reload()
  }, 'prove')
const { copied, copy } = useCopy(() => codes.value?.join('\n') ?? '')
async function kept() {
  codes.value = undefined
  session.value = await ask(api.GET('/api/v1/session'))
}
</script>

<template>
  <section v-if="data">
    <h2>{{ $t('Second factor') }}</h2>
    <div v-if="codes" class="codes">
      <p>
        <b>{{ $t('Recovery codes') }}</b>
        {{ $t('For the day when your authenticator is lost. Each works once. They cannot be looked up again.') }}
      </p>
      <ul class="mono">
        <li v-for="c in codes" :key="c">{{ c }}</li>
      </ul>
      <div class="acts">
        <ElButton @click="copy">{{ copied ? $t('Copied') : $t('Copy') }}</ElButton><ElButton
          type="primary"
          @click="kept"
          >{{ $t('I have saved them') }}</ElButton
        >
      </div>
    </div>
    <template v-else-if="data.on">
      <p>
        {{
          $t('● On since {since}. {n} recovery code is left. | ● On since {since}. {n} recovery codes are left.', {
            since: moment(data.since),
            n: data.left,
          })
        }}
      </p>
      <form v-if="proving" class="form" @submit.prevent="prove">
        <FormField :label="$t('Your password')" for="proof" :error="refusal?.field('password')"
          ><ElInput id="proof" v-model="password" type="password" show-password autocomplete="current-password"
        /></FormField>
        <ProblemNote :refusal="refusal?.field('password') ? undefined : refusal" />
        <div class="acts">
          <ElButton native-type="submit" type="primary" :disabled="!password" :loading="busy === 'prove'">{{
            proving === 'drop' ? $t('Switch off') : $t('Create new codes')
          }}</ElButton><ElButton @click="proving = ''">{{ $t('Cancel') }}</ElButton>
        </div>
      </form>
      <div v-else class="acts">
        <ElButton @click="proving = 'renew'">{{ $t('New recovery codes…') }}</ElButton><ElButton
          @click="proving = 'drop'"
          >{{ $t('Switch off…') }}</ElButton
        >
      </div>
    </template>
    <form v-else-if="setup" class="form" @submit.prevent="confirmIt">
      <p>
        <i18n-t keypath="Scan this with your authenticator, or type {secret} into it." scope="global" tag="span"
          ><template #secret
            ><code>{{ setup.secret.match(/.{1,4}/g)?.join(' ') }}</code></template
          ></i18n-t
        >
      </p>
      <img :src="image" :alt="$t('QR code for the authenticator')" width="200" height="200" />
      <FormField :label="$t('Code that it shows')" for="code" :error="refusal?.message"
        ><ElInput id="code" v-model="code" inputmode="numeric" autocomplete="one-time-code" maxlength="7"
      /></FormField>
      <div class="acts">
        <ElButton
          native-type="submit"
          type="primary"
          :disabled="code.trim().length < 6"
          :loading="busy === 'confirm'"
          >{{ $t('Switch it on') }}</ElButton
        >
      </div>
    </form>
    <template v-else>
      <p>
        {{ $t('○ Off.') }}{{ ' ' }}<span v-if="data.required" class="warn">{{ $t('Your role has to have one.') }}</span>
        {{ $t('With it, your password alone lets nobody in.') }}
      </p>
      <ProblemNote :refusal="refusal" />
      <ElButton :loading="busy === 'start'" @click="start">{{ $t('Set up') }}</ElButton>
    </template>
  </section>
</template>

<style scoped>
.codes {
  padding: 0.7rem 0.9rem;
  background: var(--sheet);
  border: 1px dashed var(--ink-2);
}
.codes ul {
  columns: 2;
  margin: 0.5rem 0;
  padding: 0;
  list-style: none;
}
p {
  margin: 0 0 0.5rem;
}
img {
  border: 1px solid var(--line);
}
</style>
