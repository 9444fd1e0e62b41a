<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import type { Schemas } from '../api/client'
import { useForm } from '../composables/useForm'
import FormField from './FormField.vue'
import ProblemNote from './ProblemNote.vue'
import { moment } from '../words'

/** The passwords of a mailbox for single programs; one that was made is shown here and nowhere else. */
const props = defineProps<{
  programs: Schemas['ProgramPassword'][]
  change: boolean
  add: (name: string) => Promise<Schemas['ProgramPasswordAdded']>
  remove: (name: string) => Promise<unknown>
}>()
const { form, general, error, busy, act, reset } = useForm(() => ({ name: '' }))
const fresh = ref<Schemas['ProgramPasswordAdded']>()
const make = () =>
  act(async () => {
    fresh.value = await props.add(form.name)
    reset({ name: '' })
  }, 'add')
const take = (program: string) =>
  act(async () => {
    await props.remove(program)
    fresh.value = undefined
  }, program)
</script>

<template>
  <p class="quiet">{{ $t('One for each telephone or computer: what is lost is shut out alone.') }}</p>
  <ul v-if="programs.length">
    <li v-for="p in programs" :key="p.name">
      <span
        >{{ p.name }} <span class="quiet">{{ moment(p.added_at) }}</span></span
      >
      <button
        v-if="change"
        type="button"
        class="link"
        :aria-label="$t('Remove {name}', { name: p.name })"
        :disabled="Boolean(busy)"
        @click="take(p.name)"
      >
        {{ $t('Remove') }}
      </button>
    </li>
  </ul>
  <p v-if="fresh" role="status" class="fresh">
    {{ $t('The password for {name}, shown only now:', { name: fresh.name }) }} <code>{{ fresh.password }}</code>
  </p>
  <form v-if="change" class="form" @submit.prevent="make">
    <FormField
      :label="$t('Another one, for')"
      for="program-name"
      :error="error('name')"
      :hint="$t('Such as telephone; the password is made here')"
      ><span class="pairs"
        ><ElInput id="program-name" v-model="form.name" maxlength="60" autocomplete="off" /><ElButton
          native-type="submit"
          :loading="busy === 'add'"
          :disabled="!form.name.trim()"
          >{{ $t('Make password') }}</ElButton
        ></span
      ></FormField
    >
    <ProblemNote :refusal="general" />
  </form>
</template>

<style scoped>
ul {
  list-style: none;
  padding: 0;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding-block: 0.3rem;
  border-block-end: 1px solid var(--line);
  overflow-wrap: anywhere;
}
.fresh code {
  font-size: 1.1em;
  user-select: all;
}
.pairs {
  display: flex;
  gap: 0.4rem;
}
</style>
