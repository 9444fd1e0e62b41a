<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElCheckbox, ElInput, ElOption, ElSelect } from 'element-plus'
import type { Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import ProblemNote from '../../parts/ProblemNote.vue'
import { t } from '../../language'

/** What sorts the messages of a mailbox. */
const props = defineProps<{
  filters: Schemas['MailFilter'][]
  change: (body: Schemas['OwnMailboxChange']) => Promise<void>
}>()
type Filter = Schemas['MailFilter']
type Test = Schemas['MailFilterTest']
const { form, dirty, refusal, busy, act, reset } = useForm(() => ({ filters: [] as Filter[] }))
const saved = ref('')
watch(
  () => props.filters,
  (filters) => reset({ filters: structuredClone(filters) }),
  { immediate: true },
)
const fields: Record<Test['field'], string> = {
  from: t('the sender'),
  to: t('a recipient'),
  subject: t('the subject'),
  list: t('the list'),
  size: t('the size'),
}
const ways: Record<Test['how'], string> = {
  contains: t('contains'),
  is: t('is'),
  above: t('is above'),
  below: t('is below'),
}
const waysOf = (test: Test): Test['how'][] => (test.field === 'size' ? ['above', 'below'] : ['contains', 'is'])
function changed(test: Test) {
  if (!waysOf(test).includes(test.how)) test.how = waysOf(test)[0]!
  if (test.field === 'size') {
    test.value = undefined
    test.bytes ??= 5 << 20
  } else test.bytes = undefined
}
const add = () => form.filters.push({ all: true, tests: [{ field: 'from', how: 'contains', value: '' }], folder: '' })
const megabytes = (test: Test) => String((test.bytes ?? 0) / (1 << 20))
const setMegabytes = (test: Test, typed: string) =>
  (test.bytes = Math.round(Number(typed.replace(',', '.')) * (1 << 20)))
function move(n: number) {
  const [one] = form.filters.splice(n, 1)
  form.filters.splice(n - 1, 0, one!)
}
const save = () =>
  act(async () => {
    saved.value = ''
    await props.change({ filters: form.filters.map((f) => ({ ...f, folder: f.folder?.trim() || undefined })) })
    saved.value = t('Messages that come from now on are sorted so')
  })
</script>

<template>
  <p v-if="!form.filters.length" class="quiet">
    {{ $t('Filters put messages into folders as they come. Scripts of your mail program stay as they are.') }}
  </p>
  <form class="form wide" @submit.prevent="save">
    <fieldset v-for="(filter, n) in form.filters" :key="n">
      <legend>{{ $t('Filter {n}', { n: n + 1 }) }}</legend>
      <div v-for="(test, k) in filter.tests" :key="k" class="line">
        <span class="word">{{ k ? (filter.all ? $t('and') : $t('or')) : $t('If') }}</span>
        <ElSelect v-model="test.field" :aria-label="$t('What is looked at')" class="field" @change="changed(test)"
          ><ElOption v-for="(title, value) in fields" :key="value" :value="value" :label="title"
        /></ElSelect>
        <ElSelect v-model="test.how" :aria-label="$t('How')" class="how"
          ><ElOption v-for="way in waysOf(test)" :key="way" :value="way" :label="ways[way]"
        /></ElSelect>
        <ElInput
          v-if="test.field === 'size'"
          :model-value="megabytes(test)"
          class="value"
          :aria-label="$t('Size in MB')"
          inputmode="decimal"
          @update:model-value="(typed: string) => setMegabytes(test, typed)"
          ><template #suffix>{{ $t('MB') }}</template></ElInput
        >
        <ElInput v-else v-model="test.value" class="value" :aria-label="$t('Text')" spellcheck="false" />
        <button
          v-if="filter.tests.length > 1"
          type="button"
          class="link"
          :aria-label="$t('Remove this condition')"
          @click="filter.tests.splice(k, 1)"
        >
          ×
        </button>
      </div>
      <div class="line">
        <button type="button" class="link" @click="filter.tests.push({ field: 'subject', how: 'contains', value: '' })">
          {{ $t('Another condition') }}
        </button>
        <ElCheckbox v-if="filter.tests.length > 1" v-model="filter.all">{{ $t('all of them must hold') }}</ElCheckbox>
      </div>
      <div class="line">
        <span class="word">{{ $t('then') }}</span>
        <ElInput
          v-model="filter.folder"
          class="value"
          :disabled="filter.drop"
          :aria-label="$t('Folder')"
          :placeholder="$t('Folder, such as Suppliers/Paint')"
        />
        <ElCheckbox v-model="filter.read" :disabled="filter.drop">{{ $t('mark as read') }}</ElCheckbox>
        <ElCheckbox v-model="filter.flag" :disabled="filter.drop">{{ $t('flag') }}</ElCheckbox>
        <ElCheckbox
          v-model="filter.drop"
          @change="filter.drop && Object.assign(filter, { folder: '', read: false, flag: false })"
          >{{ $t('throw away') }}</ElCheckbox
        >
      </div>
      <div class="line">
        <button v-if="n" type="button" class="link" @click="move(n)">{{ $t('Earlier') }}</button>
        <button type="button" class="link" @click="form.filters.splice(n, 1)">{{ $t('Remove filter') }}</button>
      </div>
    </fieldset>
    <ProblemNote :refusal="refusal" />
    <p>
      <ElButton @click="add">{{ $t('Add a filter') }}</ElButton>
      <ElButton native-type="submit" type="primary" :loading="Boolean(busy)" :disabled="!dirty">{{
        $t('Save filters')
      }}</ElButton>
      <span role="status" class="quiet">{{ saved }}</span>
    </p>
  </form>
</template>

<style scoped>
.wide {
  max-width: none;
}
fieldset {
  margin: 0 0 0.8rem;
  padding: 0.4rem 0.8rem 0.6rem;
  border: 1px solid var(--line);
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem 0.6rem;
  align-items: center;
  margin-block: 0.3rem;
}
.word {
  min-width: 2.4rem;
}
.field,
.how {
  width: 9rem;
}
.value {
  flex: 1 1 12rem;
  width: auto;
}
.line .el-checkbox {
  margin-inline-end: 0.4rem;
}
</style>
