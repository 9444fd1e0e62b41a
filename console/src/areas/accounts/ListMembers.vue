<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import ProblemNote from '../../parts/ProblemNote.vue'
import { addressList, dayOf, moment } from '../../words'
import { useAccount } from './useAccount'
import { t } from '../../language'

/** The members of a distribution list, and the messages that wait for its owners. */
const props = defineProps<{ list: Schemas['DistributionList']; change: boolean }>()
const emit = defineEmits<{ changed: []; close: [] }>()
const { name, after } = useAccount()
const path = () => ({ account: name.value, list: props.list.address })
const { data, refusal, reload } = useLoad(() =>
  ask(api.GET('/api/v1/accounts/{account}/lists/{list}/members', { params: { path: path() } })),
)
const {
  data: held,
  refusal: asking,
  reload: askAgain,
} = useLoad(() => ask(api.GET('/api/v1/accounts/{account}/lists/{list}/held', { params: { path: path() } })))
const { refusal: acting, act, busy } = useAct()

const typed = ref('')
const chosen = ref<string[]>([])
const find = ref('')
/** Those that are looked for; a long list is not shown whole. */
const most = 200
const found = computed(() => (data.value?.members ?? []).filter((m) => m.address.includes(find.value.toLowerCase())))

const changeMembers = (body: Schemas['ListMemberChange'], what: string) =>
  act(async () => {
    const outcome = await made(
      api.POST('/api/v1/accounts/{account}/lists/{list}/members', { params: { path: path() }, body }),
    )
    after(outcome.operation)
    typed.value = ''
    chosen.value = []
    await reload()
    emit('changed')
  }, what)
const changePost = (post: string, what: 'approve' | 'drop') =>
  act(async () => {
    await made(
      api.POST('/api/v1/accounts/{account}/lists/{list}/held/{post}', {
        params: { path: { ...path(), post } },
        body: { do: what },
      }),
    )
    await askAgain()
  }, post)
</script>

<template>
  <ElDialog
    :model-value="true"
    :title="$t('Members of {name}', { name: props.list.unicode })"
    width="min(40rem, 96vw)"
    :close-on-click-modal="!typed.trim()"
    @close="emit('close')"
  >
    <ProblemNote :refusal="refusal || asking || acting" />
    <section v-if="held?.posts.length">
      <h3>{{ $t('Waiting for an owner') }}</h3>
      <ul class="plain">
        <li v-for="p in held.posts" :key="p.post" class="post">
          <span
            ><b>{{ p.subject || $t('(no subject)') }}</b
            ><br /><span class="quiet">{{ p.from }} · {{ moment(p.came_at) }}</span></span
          >
          <span v-if="props.change" class="acts"
            ><ElButton size="small" :loading="busy === p.post" @click="changePost(p.post, 'approve')">{{
              $t('Send on')
            }}</ElButton
            ><ElButton size="small" :disabled="!!busy" @click="changePost(p.post, 'drop')">{{
              $t('Drop')
            }}</ElButton></span
          >
        </li>
      </ul>
      <h3>{{ $t('Members') }}</h3>
    </section>
    <form v-if="props.change" class="add" @submit.prevent="changeMembers({ add: addressList(typed) }, 'add')">
      <ElInput
        v-model="typed"
        type="textarea"
        :autosize="{ minRows: 1, maxRows: 6 }"
        :aria-label="$t('New members, one address in a line')"
        :placeholder="$t('New members, one address in a line')"
        spellcheck="false"
      />
      <ElButton native-type="submit" :loading="busy === 'add'" :disabled="!typed.trim()">{{ $t('Add') }}</ElButton>
    </form>
    <ElInput
      v-if="(data?.members.length ?? 0) > 10"
      v-model="find"
      class="find"
      :placeholder="$t('Find a member')"
      :aria-label="$t('Find a member')"
      spellcheck="false"
    />
    <p v-if="data && !data.members.length" class="quiet">{{ $t('No member yet') }}</p>
    <ul class="plain members">
      <li v-for="m in found.slice(0, most)" :key="m.address">
        <label
          ><input v-if="props.change" v-model="chosen" type="checkbox" :value="m.address" />
          <code>{{ m.address }}</code>{{ ' ' }}
          <span class="quiet">{{ $t('since {when}', { when: dayOf(m.joined_at) }) }}</span></label
        >
      </li>
    </ul>
    <p v-if="found.length > most" class="quiet">{{ $t('and {n} more', { n: found.length - most }) }}</p>
    <template #footer
      ><ElButton
        v-if="props.change"
        :disabled="!chosen.length"
        :loading="busy === 'remove'"
        @click="changeMembers({ remove: chosen }, 'remove')"
        >{{ chosen.length ? t('Remove {n} chosen', { n: chosen.length }) : t('Remove chosen') }}</ElButton
      ><ElButton type="primary" @click="emit('close')">{{ $t('Close') }}</ElButton></template
    >
  </ElDialog>
</template>

<style scoped>
.plain {
  list-style: none;
  margin: 0 0 0.8rem;
  padding: 0;
}
.post {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding-block: 0.4rem;
  border-block-end: 1px solid var(--line);
}
.acts {
  white-space: nowrap;
}
.add {
  display: flex;
  gap: 0.6rem;
  align-items: start;
  margin-block-end: 0.6rem;
}
.find {
  margin-block-end: 0.4rem;
}
.members {
  max-block-size: 22rem;
  overflow: auto;
}
.members label {
  display: block;
  padding-block: 0.15rem;
}
</style>
