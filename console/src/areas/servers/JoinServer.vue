<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'
import { ElButton, ElCheckbox, ElDialog, ElInput } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useOperation } from '../../composables/useOperation'
import { moment } from '../../words'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StepList from '../../parts/StepList.vue'
import { confirmed } from '../../parts/confirm'
import { useCopy } from '../../composables/useCopy'
import { t } from '../../language'

/** Adds a server, shows its join secret once, and watches it join. */
const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ joined: [] }>()

const joining = shallowRef<Schemas['Joining']>()
const { form, general, error, busy, act } = useForm(() => ({ label: '', address: '', closed: false }), shown)
const { operation } = useOperation(
  computed(() => joining.value?.operation),
  () => emit('joined'),
)

watch(shown, (on) => on && (joining.value = undefined))

const add = () =>
  act(async () => {
    const body = { label: form.label, address: form.address, roles: ['web'], closed: form.closed || undefined }
    joining.value = await made(api.POST('/api/v1/servers', { body }))
    emit('joined')
  })

const command = computed(() => `victualler-agent join ${joining.value?.join_secret}`)
const { copied, copy } = useCopy(() => command.value)

async function leave(done: () => void) {
  const lost = joining.value && operation.value?.state !== 'done' && !copied.value
  if (
    !lost ||
    (await confirmed(t('The join secret has not been copied and cannot be shown again. Close anyway?'), t('Close')))
  )
    done()
}
</script>

<template>
  <ElDialog
    v-model="shown"
    :title="$t('Add a server')"
    width="min(38rem, 94vw)"
    :before-close="leave"
    :close-on-click-modal="false"
  >
    <form v-if="!joining" id="join-server" class="stack" @submit.prevent="add">
      <FormField
        :label="$t('Label')"
        for="label"
        :error="error('label')"
        :hint="$t('How people call it: lower-case letters, digits and hyphens')"
      >
        <ElInput id="label" v-model="form.label" autocomplete="off" spellcheck="false" autocapitalize="none" />
      </FormField>
      <FormField
        :label="$t('Address')"
        for="address"
        :error="error('address')"
        :hint="$t('Host name or IP address; :PORT if its agent does not listen on 7677')"
      >
        <ElInput id="address" v-model="form.address" autocomplete="off" spellcheck="false" autocapitalize="none" />
      </FormField>
      <ElCheckbox v-model="form.closed">{{ $t('Takes no new accounts at first') }}</ElCheckbox>
      <ProblemNote :refusal="general" />
    </form>
    <div v-else class="stack">
      <p>{{ $t('On the server, as root, before {ends}:', { ends: moment(joining.ends_at) }) }}</p>
      <pre tabindex="0">{{ command }}</pre>
      <p>
        <ElButton size="small" @click="copy">{{ copied ? $t('Copied') : $t('Copy') }}</ElButton>
        {{ ' ' }}
        <span class="quiet">{{ $t('The secret works once, and is shown only now.') }}</span>
      </p>
      <StepList v-if="operation" :operation="operation" />
    </div>
    <template #footer>
      <ElButton v-if="joining" @click="leave(() => (shown = false))">{{ $t('Close') }}</ElButton>
      <template v-else>
        <ElButton @click="shown = false">{{ $t('Cancel') }}</ElButton>
        <ElButton
          type="primary"
          native-type="submit"
          form="join-server"
          :disabled="!form.label || !form.address"
          :loading="Boolean(busy)"
          >{{ $t('Add the server') }}</ElButton
        >
      </template>
    </template>
  </ElDialog>
</template>

<style scoped>
pre {
  margin: 0;
  padding: 0.7rem;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font: 13px/1.5 var(--mono);
  background: var(--line-2);
}
</style>
