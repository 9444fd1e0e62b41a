<script setup lang="ts">
import { nextTick, onScopeDispose, ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import ProblemNote from '../../parts/ProblemNote.vue'

/** The access log of a site: its last lines, and new ones while it is followed. */
const props = defineProps<{ domain: Schemas['DomainDetail'] }>()

const lines = ref<string[]>()
const following = ref(false)
const box = ref<HTMLElement>()
const { refusal, busy, act } = useAct()
const most = 500
let next = ''
let gone = false
onScopeDispose(() => (gone = true))

const page = (query: Record<string, unknown>) =>
  ask(
    api.GET('/api/v1/accounts/{account}/domains/{domain}/log', {
      params: { path: { account: String(props.domain.account_id), domain: props.domain.name }, query },
    }),
  )
async function take(answer: Schemas['LogPage']) {
  next = answer.next
  if (!answer.lines.length) return
  const atEnd = !box.value || box.value.scrollTop + box.value.clientHeight >= box.value.scrollHeight - 30
  lines.value = [...(lines.value ?? []), ...answer.lines].slice(-most)
  await nextTick()
  if (atEnd && box.value) box.value.scrollTop = box.value.scrollHeight
}
const show = () =>
  act(async () => {
    lines.value = []
    await take(await page({ lines: 100 }))
  })
const follow = () =>
  act(async () => {
    following.value = true
    try {
      if (!lines.value) await take(await page({ lines: 100 }))
      lines.value ??= []
      while (following.value && !gone) {
        const answer = await page({ after: next, wait: 15 })
        if (following.value) await take(answer)
      }
    } finally {
      following.value = false
    }
  })
</script>

<template>
  <section>
    <div class="titled">
      <h2>
        {{ $t('Access log') }} <span class="quiet">{{ domain.home }}/logs/{{ domain.name }}.log</span>
      </h2>
      <span class="acts">
        <span v-if="following" role="status">{{ $t('● following') }}</span>
        <ElButton v-if="!following" size="small" :loading="Boolean(busy)" @click="show">{{
          lines ? $t('Read again') : $t('Show')
        }}</ElButton>
        <ElButton v-if="!following" size="small" @click="follow">{{ $t('Follow') }}</ElButton>
        <ElButton v-else size="small" @click="following = false">{{ $t('Stop') }}</ElButton>
      </span>
    </div>
    <ProblemNote :refusal="refusal" />
    <pre v-if="lines?.length" ref="box" tabindex="0" :aria-label="$t('Access log')">{{ lines.join('\n') }}</pre>
    <p v-else-if="lines" class="quiet">
      {{
        following
          ? $t('Nobody has asked for anything yet; the next request will be shown here.')
          : $t('Nobody has asked for anything today.')
      }}
    </p>
  </section>
</template>

<style scoped>
h2 {
  overflow-wrap: anywhere;
}
pre {
  max-height: 22rem;
  overflow: auto;
  margin: 0;
  padding: 0.5rem 0.7rem;
  background: var(--sheet);
  border: 1px solid var(--line);
  font-size: 0.8rem;
  line-height: 1.5;
}
</style>
