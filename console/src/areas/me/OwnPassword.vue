<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { session } from '../session/state'

const present = ref('')
const next = ref('')
const done = ref(false)
const { refusal, busy, act } = useAct()
const change = () =>
  act(async () => {
    await ask(api.PUT('/api/v1/password', { body: { present: present.value, new: next.value } }))
    present.value = next.value = ''
    done.value = true
    session.value = await ask(api.GET('/api/v1/session'))
  })
</script>

<template>
  <section>
    <h2>Password</h2>
    <form class="form" @submit.prevent="change">
      <input type="text" hidden autocomplete="username" :value="session?.name" />
      <FormField label="Present password" for="present" :error="refusal?.field('present')"
        ><ElInput id="present" v-model="present" type="password" show-password autocomplete="current-password"
      /></FormField>
      <NewPassword v-model="next" :about="[session?.name ?? '']" :error="refusal?.field('new')" />
      <ProblemNote :refusal="refusal?.problem.errors?.length ? undefined : refusal" />
      <div class="acts">
        <ElButton native-type="submit" type="primary" :disabled="!present || !next" :loading="Boolean(busy)"
          >Change the password</ElButton
        ><span v-if="done && !next" role="status">● Changed; your other sessions have ended</span>
      </div>
    </form>
  </section>
</template>
