<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { ElCheckbox } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import FormDialog from '../../parts/FormDialog.vue'
import KitAnswers from './KitAnswers.vue'
import { t } from '../../language'

/** Brings a site to a newer version of its kit, or gives it other settings; the files first. */
const props = defineProps<{ site?: Schemas['SiteKit']; account: string }>()
const emit = defineEmits<{ closed: []; started: [operation: number] }>()
const shown = computed({ get: () => !!props.site, set: (yes) => !yes && emit('closed') })
const { form, dirty, general, error, busy, act, reset } = useForm(
  () => ({ answers: {} as Record<string, string>, password: false, take: [] as string[] }),
  shown,
)
const plan = ref<Schemas['SiteKitPlan']>()
watch(
  () => props.site?.domain,
  () => {
    plan.value = undefined
    if (props.site) reset({ answers: { ...props.site.answers } })
  },
)
watch(
  () => [form.answers, form.password],
  () => (plan.value = undefined),
  { deep: true },
)
const changed = computed(() =>
  // A secret is not shown, and stays as it is where nothing is typed.
  Object.fromEntries(
    Object.entries(form.answers).filter(([name, value]) => value !== (props.site?.answers[name] ?? '')),
  ),
)
const body = computed<Schemas['SiteKitUpdate']>(() => ({
  version: props.site?.newer || undefined,
  answers: Object.keys(changed.value).length ? changed.value : undefined,
  new_password: form.password || undefined,
}))
const path = computed(() => ({ path: { account: props.account, domain: props.site?.domain ?? '' } }))
const actions: Record<Schemas['KitFileChange']['action'], string> = {
  add: t('new'),
  replace: t('replaced'),
  remove: t('taken away'),
  keep: t('stays as it was changed here'),
  conflict: t('changed here and in the kit'),
}
const look = () =>
  act(async () => {
    plan.value = await ask(
      api.POST('/api/v1/accounts/{account}/domains/{domain}/kit/plan', { params: path.value, body: body.value }),
    )
  }, 'plan')
const update = () =>
  act(async () => {
    const { operation } = await made(
      api.PATCH('/api/v1/accounts/{account}/domains/{domain}/kit', {
        params: path.value,
        body: { ...body.value, take: form.take, keep_others: true },
      }),
    )
    emit('started', operation)
  }, 'save')
const take = (file: string, yes: unknown) =>
  (form.take = yes ? [...form.take, file] : form.take.filter((f) => f !== file))
</script>

<template>
  <FormDialog
    id="update-kit"
    v-model="shown"
    :title="site ? $t('Update {name}', { name: site.domain }) : ''"
    :width="40"
    :action="plan ? $t('Update the site') : $t('See what would change')"
    :ready="Boolean(body.version || body.answers || body.new_password)"
    :busy="busy === 'save' || busy === 'plan'"
    :dirty="dirty"
    :refusal="general"
    @submit="plan ? update() : look()"
  >
    <template v-if="site">
      <p>
        {{
          site.newer
            ? $t('{title} {version} is there, and {newer} is offered.', {
                title: site.title,
                version: site.version,
                newer: site.newer,
              })
            : $t('{title} {version} is there, the newest that is offered.', {
                title: site.title,
                version: site.version,
              })
        }}
      </p>
      <KitAnswers v-model="form.answers" :asks="site.asks" :error="error" kept />
      <ElCheckbox v-if="site.database" v-model="form.password">{{
        $t('New password for the database user, in the site’s files too')
      }}</ElCheckbox>
      <template v-if="plan">
        <h3>{{ $t('What becomes of the files') }}</h3>
        <p v-if="!plan.files.length" class="quiet">{{ $t('No file is another one.') }}</p>
        <ul v-else class="files">
          <li v-for="f in plan.files" :key="f.path">
            <code>{{ f.path }}</code> {{ actions[f.action] }}
            <ElCheckbox
              v-if="f.action === 'conflict'"
              :model-value="form.take.includes(f.path)"
              @change="(yes: unknown) => take(f.path, yes)"
              >{{ $t('take the kit’s') }}</ElCheckbox
            >
          </li>
        </ul>
        <p class="quiet">
          {{ $t('Files and database are copied first. If the site does not work afterwards, all is put back.') }}
        </p>
      </template>
    </template>
  </FormDialog>
</template>

<style scoped>
.files {
  padding-inline-start: 1.1rem;
  max-height: 16rem;
  overflow: auto;
}
</style>
