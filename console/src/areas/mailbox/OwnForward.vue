<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import type { Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { addressList } from '../../words'
import { t } from '../../language'

/** Where the messages go as well. */
const props = defineProps<{
  targets: string[]
  change: (body: Schemas['OwnMailboxChange']) => Promise<void>
}>()
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({ targets: '' }))
const saved = ref('')
watch(
  () => props.targets.join('\n'),
  (targets) => reset({ targets }),
  { immediate: true },
)
const save = () =>
  act(async () => {
    saved.value = ''
    await props.change({ forward_to: addressList(form.targets) })
    saved.value = t('Saved')
  })
</script>

<template>
  <form class="form" @submit.prevent="save">
    <FormField
      :label="$t('Also passed on to')"
      for="own-forward"
      :error="error('targets')"
      :hint="$t('One address in a line. Messages are stored here as well, and spam here alone')"
      ><ElInput
        id="own-forward"
        v-model="form.targets"
        type="textarea"
        :autosize="{ minRows: 1, maxRows: 6 }"
        spellcheck="false"
    /></FormField>
    <ProblemNote :refusal="general" />
    <p>
      <ElButton native-type="submit" :loading="Boolean(busy)" :disabled="!dirty">{{ $t('Save') }}</ElButton>
      <span role="status" class="quiet">{{ saved }}</span>
    </p>
  </form>
</template>
