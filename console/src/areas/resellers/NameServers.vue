<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElButton, ElCheckbox, ElInput } from 'element-plus'
import { api, foreseen, made } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useOperation } from '../../composables/useOperation'
import FormField from '../../parts/FormField.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StepList from '../../parts/StepList.vue'

/** Names under which a reseller's customers know the name servers. */
const props = defineProps<{ reseller: string; names: string[] }>()
const { form, preview, refusal, busy, act, loadPreview, reset } = useForm(() => ({ names: '', accepted: false }))
const started = ref<number>()
const { operation } = useOperation(started)
watch(
  () => props.names,
  (names) => reset({ names: names.join(' ') }),
  { immediate: true },
)

const params = computed(() => ({ path: { reseller: props.reseller } }))
const body = computed(() => ({
  names: form.names.split(/[\s,]+/).filter(Boolean),
  accept_unresolved: form.accepted || undefined,
}))
const decision = computed(() => refusal.value?.problem.decide?.[0])
const look = () =>
  loadPreview(() =>
    foreseen(
      api.PUT('/api/v1/resellers/{reseller}/name-servers', {
        params: { ...params.value, query: { preview: true } },
        body: body.value,
      }),
    ),
  )
const save = () =>
  act(async () => {
    const done = await made(
      api.PUT('/api/v1/resellers/{reseller}/name-servers', { params: params.value, body: body.value }),
    )
    preview.value = undefined
    started.value = done.operation || undefined
  }, 'save')
</script>

<template>
  <section>
    <h2>{{ $t('Name servers') }}</h2>
    <FormField
      :label="$t('Their names')"
      for="name-servers"
      :error="refusal?.problem.errors?.[0]?.message"
      :hint="$t('Two or more, with blanks between them; the first is the primary. Empty takes the installation’s.')"
    >
      <ElInput
        id="name-servers"
        v-model="form.names"
        spellcheck="false"
        autocomplete="off"
        :placeholder="$t('the installation’s')"
      />
    </FormField>
    <ProblemNote v-if="!refusal?.problem.errors?.length" :refusal="refusal" />
    <ElCheckbox v-if="decision || form.accepted" v-model="form.accepted">{{
      $t('take them all the same: {means}', {
        means: decision?.means ?? $t('they will be right when registrars are told'),
      })
    }}</ElCheckbox>
    <PreviewNote v-if="preview" :preview="preview" />
    <StepList v-if="operation" :operation="operation" />
    <div class="acts">
      <ElButton :loading="busy === 'save'" @click="save">{{ $t('Save names') }}</ElButton><ElButton
        :loading="busy === 'preview'"
        @click="look"
        >{{ $t('Preview') }}</ElButton
      >
    </div>
  </section>
</template>

<style scoped>
section {
  margin-top: 1.6rem;
}
.acts {
  margin-top: 0.7rem;
}
</style>
