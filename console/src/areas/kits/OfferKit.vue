<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElButton, ElDialog, ElOption, ElSelect } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { refOf } from '../plans/names'

/** Chooses which plans offer a kit; it is shown while there is one. */
const props = defineProps<{ kit?: Schemas['Kit'] }>()
const emit = defineEmits<{ closed: []; done: [] }>()
const shown = computed({ get: () => !!props.kit, set: (yes) => !yes && emit('closed') })
const { form, general, error, busy, act, reset } = useForm(() => ({ plans: [] as string[] }), shown)
const plans = ref<string[]>([])
watch(
  () => props.kit,
  async (kit) => {
    if (!kit) return
    const all = await ask(api.GET('/api/v1/plans', { params: { query: { limit: 500 } } }))
    plans.value = all.plans.map((p) => refOf(p))
    reset({ plans: [...kit.plans] })
  },
)
const save = () =>
  act(async () => {
    await ask(
      api.PATCH('/api/v1/kits/{kit}', { params: { path: { kit: props.kit!.name } }, body: { plans: form.plans } }),
    )
    emit('done')
  }, 'save')
</script>

<template>
  <ElDialog
    v-model="shown"
    :title="kit ? $t('Plans that offer {name}', { name: kit.title }) : ''"
    width="min(34rem, 94vw)"
  >
    <form id="offer" class="form" @submit.prevent="save">
      <FormField
        :label="$t('Plans')"
        for="kit-plans"
        :error="error('plans')"
        :hint="$t('Accounts on them can install it. Sites that have it keep it.')"
      >
        <ElSelect id="kit-plans" v-model="form.plans" multiple filterable>
          <ElOption v-for="p in plans" :key="p" :value="p" :label="p" />
        </ElSelect>
      </FormField>
      <ProblemNote :refusal="general" />
    </form>
    <template #footer
      ><ElButton @click="shown = false">{{ $t('Cancel') }}</ElButton
      ><ElButton type="primary" native-type="submit" form="offer" :loading="busy === 'save'">{{
        $t('Save')
      }}</ElButton></template
    >
  </ElDialog>
</template>
