<script setup lang="ts">
import { ref, shallowRef, watch } from 'vue'
import { ElInput } from 'element-plus'
import { api, foreseen, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'

/** Asks for the account's name before everything it has is deleted. */
const shown = defineModel<boolean>({ required: true })
const props = defineProps<{ account: Schemas['AccountDetail'] }>()
const emit = defineEmits<{ started: [operation: number] }>()

const typed = ref('')
const preview = shallowRef<Schemas['Preview']>()
const { refusal, busy, act } = useAct()

const path = () => ({ account: String(props.account.id) })

watch(shown, (on) => {
  typed.value = ''
  preview.value = undefined
  if (on)
    void act(async () => {
      const body = { sign_in_name: props.account.sign_in_name }
      preview.value = await foreseen(
        api.POST('/api/v1/accounts/{account}/close', { params: { path: path(), query: { preview: true } }, body }),
      )
    })
})

const close = () =>
  act(async () => {
    const call = api.POST('/api/v1/accounts/{account}/close', {
      params: { path: path() },
      body: { sign_in_name: typed.value },
    })
    emit('started', (await made(call)).operation)
    shown.value = false
  }, 'close')
</script>

<template>
  <FormDialog
    id="close-account"
    v-model="shown"
    :title="$t('Close {name}?', { name: account.name })"
    :action="$t('Close the account')"
    :ready="typed === account.sign_in_name"
    :busy="busy === 'close'"
    :dirty="!!typed"
    :refusal="refusal"
    @submit="close"
  >
    <p>
      {{
        $t('Everything the account has on {server} is deleted for good. There is no way back.', {
          server: account.server,
        })
      }}
    </p>
    <ul v-if="preview">
      <li v-for="note in preview.notes" :key="note">{{ note }}</li>
      <li v-for="change in preview.changes" :key="change.subject">{{ change.part }}: {{ change.subject }}</li>
    </ul>
    <FormField :label="$t('Type {sign_in_name} to confirm', { sign_in_name: account.sign_in_name })" for="close-name">
      <ElInput id="close-name" v-model="typed" autocomplete="off" spellcheck="false" autocapitalize="none" />
    </FormField>
  </FormDialog>
</template>

<style scoped>
li {
  overflow-wrap: anywhere;
}
</style>
