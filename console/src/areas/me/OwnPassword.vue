<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormField from '../../parts/FormField.vue'
import NewPassword from '../../parts/NewPassword.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { session } from '../session/state'

const { form, general, error, busy, act, reset } = useForm(() => ({ present: '', next: '' }))
const done = ref(false)
const change = () =>
  act(async () => {
    await ask(api.PUT('/api/v1/password', { body: { present: form.present, new: form.next } }))
    reset()
    done.value = true
    session.value = await ask(api.GET('/api/v1/session'))
  })
</script>

<template>
  <section>
    <h2>{{ $t('Password') }}</h2>
    <form class="form" @submit.prevent="change">
      <input type="text" hidden autocomplete="username" :value="session?.name" />
      <FormField :label="$t('Present password')" for="present" :error="error('present')"
        ><ElInput id="present" v-model="form.present" type="password" show-password autocomplete="current-password"
      /></FormField>
      <NewPassword v-model="form.next" :about="[session?.name ?? '']" :error="error('new')" />
      <ProblemNote :refusal="general" />
      <div class="acts">
        <ElButton
          native-type="submit"
          type="primary"
          :disabled="!form.present || !form.next"
          :loading="Boolean(busy)"
          >{{ $t('Change the password') }}</ElButton><span v-if="done && !form.next" role="status">{{
          $t('● Changed; your other sessions have ended')
        }}</span>
      </div>
    </form>
  </section>
</template>
