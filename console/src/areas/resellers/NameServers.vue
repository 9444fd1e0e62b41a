<script setup lang="ts">
import { computed, ref, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElInput } from 'element-plus'
import { api, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useOperation } from '../../composables/useOperation'
import FormField from '../../parts/FormField.vue'
import PreviewNote from '../../parts/PreviewNote.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StepList from '../../parts/StepList.vue'

/** Names under which a reseller's customers know the name servers. */
const props = defineProps<{ reseller: string; names: string[] }>()
const text = ref('')
const accepted = ref(false)
const preview = shallowRef<Schemas['Preview']>()
const started = ref<number>()
const { operation } = useOperation(started)
const { refusal, busy, act } = useAct()
watch(
  () => props.names,
  (names) => (text.value = names.join(' ')),
  { immediate: true },
)
watch(text, () => (preview.value = undefined))

const params = computed(() => ({ path: { reseller: props.reseller } }))
const body = computed(() => ({
  names: text.value.split(/[\s,]+/).filter(Boolean),
  accept_unresolved: accepted.value || undefined,
}))
const decision = computed(() => refusal.value?.problem.decide?.[0])
const look = () =>
  act(
    async () =>
      (preview.value = await foreseen(
        api.PUT('/api/v1/resellers/{reseller}/name-servers', {
          params: { ...params.value, query: { preview: true } },
          body: body.value,
        }),
      )),
    'preview',
  )
const keep = () =>
  act(async () => {
    const done = await made(
      api.PUT('/api/v1/resellers/{reseller}/name-servers', { params: params.value, body: body.value }),
    )
    preview.value = undefined
    started.value = done.operation || undefined
  }, 'keep')
</script>

<template>
  <section>
    <h2>Name servers</h2>
    <FormField
      label="Their names"
      for="name-servers"
      :error="refusal?.problem.errors?.[0]?.message"
      hint="Two or more, with blanks between them; the first is the primary. Empty takes the installation’s."
    >
      <ElInput
        id="name-servers"
        v-model="text"
        spellcheck="false"
        autocomplete="off"
        placeholder="the installation’s"
      />
    </FormField>
    <ProblemNote v-if="!refusal?.problem.errors?.length" :refusal="refusal" />
    <ElCheckbox v-if="decision || accepted" v-model="accepted"
      >take them all the same: {{ decision?.means ?? 'they will be right when registrars are told' }}</ElCheckbox
    >
    <PreviewNote v-if="preview" :preview="preview" />
    <StepList v-if="operation" :operation="operation" />
    <div class="acts">
      <ElButton :loading="busy === 'keep'" @click="keep">Save names</ElButton
      ><ElButton :loading="busy === 'preview'" @click="look">Preview</ElButton>
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
