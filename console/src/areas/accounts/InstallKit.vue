<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElCheckbox, ElOption, ElSelect } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import KitAnswers from './KitAnswers.vue'

/** Asks where a kit is to be installed, and what the kit asks. */
const props = defineProps<{ kit?: Schemas['OfferedKit']; account: string; taken: Schemas['SiteKit'][] }>()
const emit = defineEmits<{ closed: []; started: [operation: number] }>()
const shown = computed({ get: () => !!props.kit, set: (yes) => !yes && emit('closed') })
const { form, dirty, refusal, general, error, busy, act, reset } = useForm(
  () => ({ domain: '', answers: {} as Record<string, string>, replace: false }),
  shown,
)
const sites = ref<string[]>([])
watch(
  () => props.kit,
  async (kit) => {
    if (!kit) return
    const page = await ask(
      api.GET('/api/v1/domains', { params: { query: { account: props.account, served_as: 'site', limit: 500 } } }),
    )
    sites.value = page.domains
      .filter((d) => !d.proof?.waiting)
      .map((d) => d.name)
      .filter((d) => !props.taken.some((s) => s.domain === d))
    reset({
      domain: sites.value[0] ?? '',
      answers: Object.fromEntries(kit.asks.map((a) => [a.name, a.default ?? ''])),
    })
  },
)
/** There are files in the site, and nobody has said yet what is to become of them. */
const files = computed(() => refusal.value?.problem.decide?.find((c) => c.field === 'replace'))
const install = () =>
  act(async () => {
    const { operation } = await made(
      api.POST('/api/v1/accounts/{account}/domains/{domain}/kit', {
        params: { path: { account: props.account, domain: form.domain } },
        body: { kit: props.kit!.name, answers: form.answers, replace: form.replace || undefined },
      }),
    )
    emit('started', operation)
  }, 'save')
</script>

<template>
  <FormDialog
    id="install-kit"
    v-model="shown"
    :title="kit ? $t('Install {name}', { name: kit.title }) : ''"
    :action="$t('Install kit')"
    :ready="!!form.domain"
    :busy="busy === 'save'"
    :dirty="dirty"
    @submit="install"
  >
    <template v-if="kit">
      <p v-if="!sites.length" class="quiet">{{ $t('Every site of this account has a kit already.') }}</p>
      <FormField v-else :label="$t('Site')" for="kit-site" :error="error('domain')">
        <ElSelect id="kit-site" v-model="form.domain" filterable>
          <ElOption v-for="d in sites" :key="d" :value="d" :label="d" />
        </ElSelect>
      </FormField>
      <KitAnswers v-model="form.answers" :asks="kit.asks" :error="error" />
      <ProblemNote :refusal="general" />
      <ElCheckbox v-if="files || form.replace" v-model="form.replace">{{
        files?.means ?? $t('Delete the files that are there')
      }}</ElCheckbox>
    </template>
  </FormDialog>
</template>
