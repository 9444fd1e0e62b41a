<script setup lang="ts">
import { ref, shallowRef } from 'vue'
import { ElButton, ElInput, ElRadio, ElRadioGroup } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useUnsaved } from '../../composables/useUnsaved'
import FormField from '../../parts/FormField.vue'
import LimitFields from '../../parts/LimitFields.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'

const router = useRouter()
const { form, dirty, general, error, busy, act } = useForm(() => ({
  name: '',
  title: '',
  email: '',
  measure: 'allotted' as 'allotted' | 'used',
}))
const saved = useUnsaved(() => dirty.value)
const limits = shallowRef<Record<string, number | null>>({})
const features = shallowRef<Record<string, boolean>>({})
const complete = ref(false)
const nothing = {} as Schemas['Plan']['limits']

const add = () =>
  act(async () => {
    const body = {
      ...form,
      email: form.email.trim() || undefined,
      limits: limits.value as Schemas['NewReseller']['limits'],
      features: features.value as Schemas['NewReseller']['features'],
    }
    const r = await made(api.POST('/api/v1/resellers', { body }))
    saved()
    await router.push(`/resellers/${r.name}`)
  }, 'add')
</script>

<template>
  <PageHead :title="$t('Add a reseller')"
    ><template #above
      ><RouterLink to="/resellers">{{ $t('Resellers') }}</RouterLink></template
    ></PageHead
  >
  <form class="halves" @submit.prevent="add">
    <div class="form">
      <FormField :label="$t('Title')" for="title" :error="error('title')" :hint="$t('As people read it')"
        ><ElInput id="title" v-model="form.title" autofocus autocomplete="off"
      /></FormField>
      <FormField
        :label="$t('Name')"
        for="name"
        :error="error('name')"
        :hint="$t('Lower-case letters, digits, hyphens; their plans are called NAME.PLAN')"
        ><ElInput id="name" v-model="form.name" spellcheck="false" autocapitalize="none" autocomplete="off"
      /></FormField>
      <FormField :label="$t('Contact address')" for="email" :error="error('email')"
        ><ElInput id="email" v-model="form.email" type="email" autocomplete="off"
      /></FormField>
      <div>
        <h2 id="measure-title">{{ $t('Compared with the share') }}</h2>
        <ElRadioGroup v-model="form.measure" aria-labelledby="measure-title" class="choice">
          <ElRadio value="allotted">{{ $t('what is allotted: the limits given out to accounts') }}</ElRadio>
          <ElRadio value="used">{{ $t('what is used: limits may be given out beyond it') }}</ElRadio>
        </ElRadioGroup>
      </div>
      <ProblemNote :refusal="general" />
      <div class="acts">
        <ElButton
          native-type="submit"
          type="primary"
          :disabled="!form.name || !form.title || !complete"
          :loading="busy === 'add'"
          >{{ $t('Add the reseller') }}</ElButton
        >
      </div>
    </div>
    <div>
      <h2>{{ $t('Share') }}</h2>
      <LimitFields
        :limits="nothing"
        :features="{}"
        :wrong="error"
        @change="(l, f, whole) => ((limits = l), (features = f), (complete = whole))"
      />
    </div>
  </form>
</template>

<style scoped>
.choice {
  display: grid;
  justify-items: start;
}
</style>
