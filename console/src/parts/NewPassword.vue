<script setup lang="ts">
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { onBeforeRouteLeave } from 'vue-router'
import { api, ask, type Schemas } from '../api/client'
import FormField from './FormField.vue'
import { confirmed } from './confirm'
import { useEventListener, watchDebounced } from '@vueuse/core'
import { useCopy } from '../composables/useCopy'
import { t } from '../language'
import { named } from '../codes'

/**
 * A new password, typed or generated; its strength is estimated while it is typed. A generated one is shown until
 * the form is left.
 */
const password = defineModel<string>({ required: true })
const props = defineProps<{ about?: string[]; error?: string; label?: string; id?: string }>()
const field = computed(() => props.id ?? 'new-password')

const strength = shallowRef<Schemas['Strength']>()
const made = ref('')
/** What systems that take a password allow it to have. */
const kinds = [
  { name: t('letters and digits'), small: true, large: true, digits: true, signs: false },
  { name: t('letters, digits and signs'), small: true, large: true, digits: true, signs: true },
  { name: t('small letters and digits'), small: true, large: false, digits: true, signs: false },
  { name: t('letters'), small: true, large: true, digits: false, signs: false },
  { name: t('digits'), small: false, large: false, digits: true, signs: false },
]
const options = reactive({ length: 16, of: 0 })

watch(password, (text) => {
  if (text !== made.value) made.value = ''
  if (!text) strength.value = undefined
})
watchDebounced(
  password,
  async (text) => {
    if (!text) return
    const found = await ask(api.POST('/api/v1/check/password', { body: { password: text, about: props.about } }))
    if (text === password.value) strength.value = found
  },
  { debounce: 200 },
)

async function make() {
  const { small, large, digits, signs } = kinds[options.of]!
  const p = await ask(
    api.GET('/api/v1/generate/password', {
      params: { query: { length: options.length, small, large, digits, signs } },
    }),
  )
  made.value = password.value = p.password
}

const { copied, copy } = useCopy(() => password.value)
const lost = () => Boolean(made.value) && !copied.value
const question = t('The generated password has not been copied and cannot be shown again. Leave anyway?')
onBeforeRouteLeave(async () => !lost() || (await confirmed(question, t('Leave'))))
useEventListener(window, 'beforeunload', (event) => {
  if (lost()) event.preventDefault()
})
const shapes = { weak: '✕', fair: '◔', good: '◑', strong: '●' }
</script>

<template>
  <FormField :label="label ?? $t('New password')" :for="field" :error="error">
    <div class="line">
      <ElInput
        :id="field"
        v-model="password"
        :type="made ? 'text' : 'password'"
        :show-password="!made"
        autocomplete="new-password"
        spellcheck="false"
        :class="{ mono: made }"
      />
      <ElButton v-if="made" @click="copy">{{ copied ? $t('Copied') : $t('Copy') }}</ElButton>
    </div>
    <p v-if="strength" class="strength" :class="strength.level" role="status">
      <span aria-hidden="true">{{ shapes[strength.level] }}</span> <b>{{ named(strength.level) }}</b><span
        v-if="strength.reasons.length"
        >: {{ strength.reasons.join(', ') }}</span
      >
      <span v-if="strength.advice" class="quiet">; {{ strength.advice }}</span>
    </p>
    <p v-if="made" class="strength">{{ $t('It cannot be looked up again once it is set.') }}</p>
    <div class="make">
      <button type="button" class="link" @click="make">{{ $t('Make one') }}</button>
      <select v-model.number="options.length" :aria-label="$t('Length')">
        <option v-for="n in [12, 16, 20, 24, 32]" :key="n" :value="n">{{ n }}</option>
      </select>
      {{ $t('characters:') }}
      <select v-model.number="options.of" :aria-label="$t('Characters')">
        <option v-for="(kind, i) in kinds" :key="i" :value="i">{{ kind.name }}</option>
      </select>
    </div>
  </FormField>
</template>

<style scoped>
.line {
  display: flex;
  gap: 0.4rem;
}
.strength {
  margin: 0;
}
.weak {
  color: var(--signal);
}
.make {
  display: flex;
  flex-wrap: wrap;
  gap: 0.35rem;
  align-items: center;
  color: var(--ink-2);
}
select {
  font: inherit;
  color: var(--ink);
  background: var(--sheet);
  border: 1px solid var(--line);
}
</style>
