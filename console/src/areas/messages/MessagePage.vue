<script setup lang="ts">
import { computed } from 'vue'
import { api, ask } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import FactList from '../../parts/FactList.vue'
import NotHere from '../../parts/NotHere.vue'
import PageHead from '../../parts/PageHead.vue'
import StateMark from '../../parts/StateMark.vue'
import { moment, size } from '../../words'
import { t } from '../../language'

/** What became of one message for one recipient. */
const props = defineProps<{ message: string }>()
const number = computed(() => Number(props.message))
const { data, refusal } = useLoad(
  () => ask(api.GET('/api/v1/messages/{message}', { params: { path: { message: number.value } } })),
  { on: number, every: 30_000 },
)
const facts = computed<[string, string][]>(() => {
  const m = data.value
  if (!m) return []
  const all: [string, string | undefined][] = [
    [t('From'), m.sender || t('(failure notice)')],
    [t('First sent by'), m.first_sender],
    [t('To'), m.recipient],
    [t('Delivered to'), m.delivered_to],
    [t('Came'), moment(m.came_at)],
    [t('Last'), m.at === m.came_at ? undefined : moment(m.at)],
    [t('Tries'), m.tries > 1 ? String(m.tries) : undefined],
    [t('Signed in as'), m.sign_in],
    [t('Brought by'), m.client],
    [t('Asked'), m.relay],
    [t('Answer'), m.reply],
    [t('Spam score'), m.score],
    [t('Folder'), m.folder],
    [t('Size'), m.size ? size(m.size) : undefined],
    ['Message-ID', m.message_id],
    [t('Server'), m.server],
    [t('Name in the queue'), m.queue],
    [t("Sender's account"), m.from_account],
    [t("Recipient's account"), m.to_account],
  ]
  return all.filter((f): f is [string, string] => Boolean(f[1]))
})
</script>

<template>
  <NotHere v-if="!data && refusal" :refusal="refusal" to="/messages" :label="$t('All messages')" />
  <template v-if="data">
    <PageHead :title="data.recipient" :about="data.says">
      <template #above
        ><RouterLink to="/messages">{{ $t('Messages') }}</RouterLink></template
      >
      <StateMark :state="data.outcome" />
    </PageHead>
    <FactList :facts="facts" />
    <p v-if="data.outcome === 'waiting'">
      <RouterLink to="/messages/waiting">{{ $t('Messages that wait') }}</RouterLink>
    </p>
  </template>
</template>
