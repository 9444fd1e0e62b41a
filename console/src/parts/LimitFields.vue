<script setup lang="ts">
import { computed, reactive, watch } from 'vue'
import { ElCheckbox, ElInput } from 'element-plus'
import type { Schemas } from '../api/client'
import { useLimits } from '../composables/useLimits'
import { amount, readAmount } from '../words'

/** Amounts for every limit and a switch for every feature, written as people write them. */
const props = defineProps<{
  limits: Schemas['Plan']['limits']
  features: Schemas['Plan']['features']
  most?: Schemas['Plan']['limits']
  wrong?: (name: string) => string | undefined
}>()
const emit = defineEmits<{
  change: [limits: Record<string, number | null>, features: Record<string, boolean>, complete: boolean]
}>()

const known = useLimits()
const typed = reactive<Record<string, string>>({})
const on = reactive<Record<string, boolean>>({})
const errors = reactive<Record<string, string>>({})

watch(
  [() => props.limits, () => props.features, known],
  () => {
    for (const l of known.value?.limits ?? [])
      typed[l.key] ??= write(props.limits[l.key as keyof typeof props.limits] ?? given(l), l.unit)
    for (const { key } of known.value?.features ?? [])
      on[key] ??= props.features[key as keyof typeof props.features] ?? false
    tell()
  },
  { immediate: true },
)

/** What is there, null for unlimited; where nothing is, what a plan gives that says nothing. */
function given(l: Schemas['LimitInfo']): number | null {
  return l.key in props.limits ? null : (l.default ?? null)
}

function write(n: number | null | undefined, unit: string): string {
  if (unit === 'bytes' && n) {
    // Never less exact than it is: 1536M rather than 1.5G only if it must be.
    const text = amount(n, unit)
    const back = readAmount(text, unit)
    if (!('value' in back) || back.value !== n) return `${n}B`
    return text
  }
  return unit === 'count' && typeof n === 'number' ? String(n) : amount(n ?? (n === null ? null : 0), unit)
}

function tell() {
  const limits: Record<string, number | null> = {}
  for (const l of known.value?.limits ?? []) {
    const read = readAmount(typed[l.key] ?? '', l.unit)
    if ('wrong' in read) errors[l.key] = read.wrong
    else {
      delete errors[l.key]
      limits[l.key] = read.value
    }
  }
  emit('change', limits, { ...on }, known.value !== undefined && Object.keys(errors).length === 0)
}

const rows = computed(() => known.value?.limits ?? [])
const error = (key: string) => errors[key] ?? props.wrong?.(`limits.${key}`)
</script>

<template>
  <div class="fields">
    <template v-for="l in rows" :key="l.key">
      <label :for="`limit-${l.key}`">{{ l.title }}</label>
      <div>
        <ElInput
          :id="`limit-${l.key}`"
          v-model="typed[l.key]"
          size="small"
          :class="{ bad: error(l.key) }"
          :placeholder="l.unit === 'bytes' ? '20G' : l.unit === 'percent' ? '20%' : l.unit === 'seconds' ? '30s' : '0'"
          spellcheck="false"
          autocomplete="off"
          @input="tell"
        />
        <p v-if="error(l.key)" class="error" role="alert">✕ {{ error(l.key) }}</p>
      </div>
      <button
        type="button"
        class="link quiet"
        :disabled="typed[l.key] === 'unlimited'"
        :aria-label="$t('{title}: unlimited', { title: l.title })"
        @click="((typed[l.key] = 'unlimited'), tell())"
      >
        {{ $t('unlimited') }}
      </button>
      <span v-if="most" class="quiet">{{
        $t('of {unit}', { unit: amount(most[l.key as keyof typeof most], l.unit) })
      }}</span>
    </template>
  </div>
  <fieldset>
    <legend>{{ $t('Features') }}</legend>
    <ElCheckbox
      v-for="f in known?.features"
      :key="f.key"
      v-model="on[f.key]"
      :title="wrong?.(`features.${f.key}`)"
      @change="tell"
      >{{ f.title
      }}<span v-if="wrong?.(`features.${f.key}`)" class="error"> ✕ {{ wrong(`features.${f.key}`) }}</span></ElCheckbox
    >
  </fieldset>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: minmax(8rem, max-content) 9rem max-content minmax(0, 1fr);
  gap: 0.15rem 0.8rem;
  align-items: center;
}
.fields > span {
  grid-column: 4;
}
.fields > label {
  grid-column: 1;
  overflow-wrap: anywhere;
  hyphens: auto;
}
.link.quiet {
  color: var(--ink-2);
  text-decoration: none;
}
.link.quiet:hover:enabled,
.link.quiet:focus-visible {
  color: var(--signal);
  text-decoration: underline;
}
.link:disabled {
  visibility: hidden;
}
.error {
  margin: 0;
  color: var(--signal);
}
.bad :deep(.el-input__wrapper) {
  box-shadow: 0 0 0 1px var(--signal) inset;
}
fieldset {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(9.5rem, 1fr));
  gap: 0 0.8rem;
  margin: 0.6rem 0 0;
  padding: 0;
  border: 0;
}
legend {
  font-weight: 600;
}
@media (max-width: 760px) {
  .fields {
    grid-template-columns: minmax(0, 1fr) 6.5rem max-content;
  }
  .fields > span {
    display: none;
  }
}
</style>
