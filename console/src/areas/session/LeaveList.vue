<script setup lang="ts">
import { ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask } from '../../api/client'
import { useAct } from '../../composables/useAct'
import OpenCard from '../../parts/OpenCard.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

/** Where a member leaves a distribution list. Opening the page alone takes nobody out: programs look at links, too. */
const props = defineProps<{ list: string; code: string }>()
const left = ref('')
const { refusal, busy, act } = useAct()
const leave = () =>
  act(async () => {
    left.value = (await ask(api.POST('/api/v1/leave-list', { body: { list: props.list, code: props.code } }))).list
  })
</script>

<template>
  <OpenCard @submit="leave">
    <template v-if="left">
      <h1>{{ $t('You have left {list}', { list: left }) }}</h1>
      <p>{{ $t('No more of its messages come to you. What is under way may still arrive.') }}</p>
    </template>
    <template v-else>
      <h1>{{ $t('Leave the list {list}?', { list: props.list }) }}</h1>
      <p class="quiet">{{ $t('No more of its messages will come to you.') }}</p>
      <ProblemNote :refusal="refusal" />
      <ElButton type="primary" native-type="submit" :loading="!!busy">{{ $t('Leave the list') }}</ElButton>
    </template>
  </OpenCard>
</template>
