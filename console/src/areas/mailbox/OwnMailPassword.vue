<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import type { Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { t } from '../../language'

/** Another password for the mailbox. */
const props = defineProps<{ change: (body: Schemas['OwnMailboxChange']) => Promise<void> }>()
const { form, general, error, busy, act, reset } = useForm(() => ({ now: '', next: '' }))
const saved = ref('')
const save = () =>
  act(async () => {
    saved.value = ''
    await props.change({ current_password: form.now, password: form.next })
    reset()
    saved.value = t('Mail programs ask for the new password now')
  })
</script>

<template>
  <form class="form" @submit.prevent="save">
    <FormField :label="$t('Present password')" for="own-now" :error="error('current_password')"
      ><ElInput id="own-now" v-model="form.now" type="password" show-password autocomplete="current-password"
    /></FormField>
    <FormField :label="$t('New password')" for="own-next" :error="error('password')"
      ><ElInput id="own-next" v-model="form.next" type="password" show-password autocomplete="new-password"
    /></FormField>
    <ProblemNote :refusal="general" />
    <p>
      <ElButton native-type="submit" :loading="Boolean(busy)" :disabled="!form.now || !form.next">{{
        $t('Change password')
      }}</ElButton>
      <span role="status" class="quiet">{{ saved }}</span>
    </p>
  </form>
</template>
