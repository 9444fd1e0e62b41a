<script setup lang="ts">
import { computed, reactive, watch } from 'vue'
import { ElInput, ElOption, ElSelect, ElSwitch } from 'element-plus'
import { api, ask, type Schemas } from '../api/client'
import { useLoad } from '../composables/useLoad'
import { readSetting, writeSetting } from '../settings'
import { named } from '../codes'
import { t } from '../language'

/**
 * Every setting of a site with its value and where that comes from. What is changed is emitted by key; null removes
 * the value, so that the one below applies.
 */
type Info = Schemas['SettingInfo']
const props = defineProps<{
  settings: Schemas['Setting'][]
  /** The source that means: set here. */
  own: string
  /** What the value returns to, in words. */
  below: string
  /** Settings that are not to be changed here, with the reason. */
  fixed?: Record<string, string>
  readonly?: boolean
  wrong?: (name: string) => string | undefined
}>()
const emit = defineEmits<{ change: [settings: Record<string, unknown>, sound: boolean] }>()

const { data: known } = useLoad(() => ask(api.GET('/api/v1/site-settings')))
const typed = reactive<Record<string, string | boolean>>({})
const returns = reactive(new Set<string>())
const errors = reactive<Record<string, string>>({})
const byKey = computed(() => Object.fromEntries(props.settings.map((s) => [s.key, s])))
const groups = computed(() => {
  const list: { title: string; infos: Info[] }[] = []
  for (const info of known.value?.settings ?? []) {
    if (list.at(-1)?.title !== info.group) list.push({ title: info.group, infos: [] })
    list.at(-1)!.infos.push(info)
  }
  return list
})

const written = (info: Info, value: unknown) =>
  info.kind === 'switch' ? (value as boolean) : writeSetting(info, value)
const present = (info: Info) => written(info, byKey.value[info.key]?.value ?? info.default)
watch(
  [known, () => props.settings],
  () => {
    returns.clear()
    for (const info of known.value?.settings ?? []) typed[info.key] = present(info)
    tell()
  },
  { immediate: true },
)

const touched = (info: Info) => typed[info.key] !== present(info)
function tell() {
  const changes: Record<string, unknown> = {}
  for (const info of known.value?.settings ?? []) {
    delete errors[info.key]
    if (returns.has(info.key)) changes[info.key] = null
    else if (touched(info)) {
      const now = typed[info.key]!
      const read = typeof now === 'boolean' ? { value: now } : readSetting(info, now)
      if ('wrong' in read) errors[info.key] = read.wrong
      else changes[info.key] = read.value
    }
  }
  emit('change', changes, Object.keys(errors).length === 0)
}
function back(info: Info) {
  if (returns.has(info.key)) returns.delete(info.key)
  else {
    returns.add(info.key)
    typed[info.key] = present(info)
  }
  tell()
}
const error = (key: string) => errors[key] ?? props.wrong?.(`settings.${key}`)
const tall = (info: Info) => info.kind === 'map' || info.kind === 'text'
const hints: Record<string, string> = {
  networks: t('everybody'),
  version: t('the newest'),
  map: t('NAME: VALUE, one on each line'),
  size: '64M',
  seconds: t('30d, 12h, 5m or 90s'),
  path: 'index.php',
  paths: 'index.php, index.html',
}
const open = (info: Info) => !props.readonly && !props.fixed?.[info.key] && !returns.has(info.key)
</script>

<template>
  <div class="groups">
    <section v-for="g in groups" :key="g.title">
      <h3>{{ g.title }}</h3>
      <div
        v-for="info in g.infos"
        :key="info.key"
        class="setting"
        :class="{ touched: touched(info) || returns.has(info.key), tall: tall(info) }"
      >
        <label :for="`setting-${info.key}`" :title="[info.key, info.about].filter(Boolean).join(': ')">{{
          info.title
        }}</label>
        <div class="value">
          <ElSwitch
            v-if="info.kind === 'switch'"
            :id="`setting-${info.key}`"
            v-model="typed[info.key]"
            size="small"
            :disabled="!open(info)"
            :aria-label="info.title"
            @change="tell"
          />
          <ElSelect
            v-else-if="info.kind === 'choice'"
            :id="`setting-${info.key}`"
            v-model="typed[info.key]"
            size="small"
            :disabled="!open(info)"
            @change="tell"
            ><ElOption v-for="c in info.choices" :key="c" :value="c" :label="named(c)"
          /></ElSelect>
          <ElInput
            v-else
            :id="`setting-${info.key}`"
            :model-value="String(typed[info.key] ?? '')"
            size="small"
            :type="tall(info) ? 'textarea' : 'text'"
            :autosize="tall(info) ? { minRows: 1, maxRows: 12 } : undefined"
            :placeholder="hints[info.kind]"
            :disabled="!open(info)"
            :class="{ bad: error(info.key), mono: info.kind === 'text' }"
            spellcheck="false"
            autocomplete="off"
            @update:model-value="(v: string) => ((typed[info.key] = v), tell())"
          />
          <p v-if="error(info.key)" class="error" role="alert">✕ {{ error(info.key) }}</p>
          <p v-else-if="fixed?.[info.key]" class="quiet">{{ fixed[info.key] }}</p>
          <p v-else-if="byKey[info.key]?.bounded" class="quiet">▲ {{ byKey[info.key]?.bounded }}</p>
          <p v-else-if="info.about" class="quiet about">{{ info.about }}</p>
        </div>
        <span class="source">
          <template v-if="returns.has(info.key)"
            ><button type="button" class="link" @click="back(info)">{{ $t('Keep it set') }}</button></template
          >
          <template v-else-if="byKey[info.key]?.source === own"
            >{{ $t('set here')
            }}<button
              v-if="!readonly && !fixed?.[info.key]"
              type="button"
              class="link"
              :title="$t('Let {below} return', { below })"
              :aria-label="$t('undo {title}: let {below} return', { title: info.title, below })"
              @click="back(info)"
            >
              {{ $t('undo') }}
            </button></template
          >
          <template v-else>{{ byKey[info.key]?.source }}</template>
        </span>
      </div>
    </section>
  </div>
</template>

<style scoped>
.groups {
  columns: 2 30rem;
  column-gap: 2.5rem;
}
section {
  break-inside: avoid;
  margin: 0 0 0.9rem;
}
h3 {
  margin: 0 0 0.2rem;
  font-size: 0.95rem;
  border-bottom: 1px solid var(--ink-2);
}
.setting {
  display: grid;
  grid-template-columns: 11.5rem minmax(0, 1fr) 7.5rem;
  gap: 0 0.8rem;
  align-items: baseline;
  padding: 0.16rem 0;
  border-bottom: 1px solid var(--line-2);
}
.tall {
  align-items: start;
}
.value .about {
  display: none;
}
.setting:focus-within .about {
  display: block;
}
.touched {
  box-shadow: -3px 0 0 var(--signal);
}
.value p {
  margin: 0;
  font-size: 0.86rem;
}
.error {
  color: var(--signal);
}
.source {
  display: flex;
  flex-wrap: wrap;
  gap: 0 0.5rem;
  font-size: 0.86rem;
  color: var(--ink-2);
  overflow-wrap: anywhere;
}
.bad :deep(.el-input__wrapper),
.bad :deep(textarea) {
  box-shadow: 0 0 0 1px var(--signal) inset;
}
.mono :deep(textarea) {
  font-family: var(--mono);
}
@media (max-width: 760px) {
  .setting {
    grid-template-columns: minmax(0, 1fr) max-content;
  }
  .setting .value {
    grid-row: 2;
    grid-column: 1 / -1;
  }
}
</style>
