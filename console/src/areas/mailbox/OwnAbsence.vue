<script setup lang="ts">
import { ref, watch } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import type { Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { localDay, momentOf } from '../../words'
import { t } from '../../language'

/** What whoever writes is told while the holder is away. */
const props = defineProps<{
  reply?: Schemas['AbsenceReply'] | null
  change: (body: Schemas['OwnMailboxChange']) => Promise<void>
}>()
const { form, dirty, general, error, busy, act, reset } = useForm(() => ({
  text: '',
  subject: '',
  from: '',
  until: '',
}))
const saved = ref('')
watch(
  () => props.reply,
  (r) =>
    reset({ text: r?.text ?? '', subject: r?.subject ?? '', from: localDay(r?.from), until: localDay(r?.until, -1) }),
  { immediate: true },
)
const save = (text: string) =>
  act(async () => {
    saved.value = ''
    await props.change({
      reply: {
        text,
        subject: form.subject.trim() || undefined,
        from: momentOf(form.from),
        until: momentOf(form.until, 1),
      },
    })
    saved.value = text ? t('Whoever writes is told, once a week') : t('Nobody is told any more')
  })
</script>

<template>
  <form class="form" @submit.prevent="save(form.text.trim())">
    <FormField
      :label="$t('Absence reply')"
      for="own-reply"
      :error="error('reply.text') ?? error('reply')"
      :hint="$t('Lists, failures and other replies get none')"
      ><ElInput id="own-reply" v-model="form.text" type="textarea" :autosize="{ minRows: 2, maxRows: 10 }"
    /></FormField>
    <template v-if="form.text.trim()">
      <FormField :label="$t('Subject of the reply')" for="own-reply-subject" :error="error('reply.subject')"
        ><ElInput id="own-reply-subject" v-model="form.subject"
      /></FormField>
      <div class="two">
        <FormField :label="$t('Absent from')" for="own-reply-from" :error="error('reply.from')"
          ><ElInput id="own-reply-from" v-model="form.from" type="date"
        /></FormField>
        <FormField :label="$t('Absent until the end of')" for="own-reply-until" :error="error('reply.until')"
          ><ElInput id="own-reply-until" v-model="form.until" type="date"
        /></FormField>
      </div>
    </template>
    <ProblemNote :refusal="general" />
    <div class="acts">
      <ElButton native-type="submit" type="primary" :loading="Boolean(busy)" :disabled="!dirty || !form.text.trim()">{{
        $t('Save')
      }}</ElButton>
      <ElButton v-if="reply" :disabled="Boolean(busy)" @click="save('')">{{ $t('End the absence') }}</ElButton>
      <span role="status" class="quiet">{{ saved }}</span>
    </div>
  </form>
</template>

<style scoped>
.two {
  display: flex;
  flex-wrap: wrap;
  gap: 0 1rem;
}
.acts {
  display: flex;
  gap: 0.6rem;
  align-items: center;
}
</style>
