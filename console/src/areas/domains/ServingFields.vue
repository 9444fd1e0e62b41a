<script setup lang="ts">
import { ElCheckbox, ElInput, ElOption, ElRadio, ElRadioGroup, ElSelect } from 'element-plus'
import FormField from '../../parts/FormField.vue'
import type { Serving } from './serving'

/** How a domain is to be served. */
const form = defineModel<Serving>({ required: true })
defineProps<{ sites: string[]; home: string; wrong: (name: string) => string | undefined; disabled?: boolean }>()
const kinds = [
  ['site', 'Site', 'files of its own'],
  ['mirror', 'Mirror', 'the content of another site'],
  ['redirect', 'Redirect', 'visitors are sent elsewhere'],
  ['dns-only', 'DNS only', 'no web server answers'],
] as const
</script>

<template>
  <div class="stack">
    <FormField label="Served as" for="served-as" :error="wrong('served_as')">
      <ElRadioGroup id="served-as" v-model="form.served_as" class="kinds" :disabled="disabled" aria-label="Served as">
        <ElRadio v-for="[kind, label, about] in kinds" :key="kind" :value="kind" :title="about">{{ label }}</ElRadio>
      </ElRadioGroup>
    </FormField>
    <FormField
      v-if="form.served_as === 'site'"
      label="Document root"
      for="root"
      :error="wrong('root')"
      :hint="`Below ${home}/, in sites/`"
    >
      <ElInput id="root" v-model="form.root" :disabled="disabled" spellcheck="false" placeholder="sites/…" />
    </FormField>
    <FormField
      v-if="form.served_as === 'mirror'"
      label="Shows the content of"
      for="mirror-of"
      :error="wrong('mirror_of')"
      :hint="sites.length ? undefined : 'There is no other site in this account'"
    >
      <ElSelect id="mirror-of" v-model="form.mirror_of" :disabled="disabled" placeholder="a site of this account"
        ><ElOption v-for="s in sites" :key="s" :value="s" :label="s"
      /></ElSelect>
    </FormField>
    <template v-if="form.served_as === 'redirect'">
      <FormField label="Leads to" for="target" :error="wrong('target')"
        ><ElInput
          id="target"
          v-model="form.target"
          :disabled="disabled"
          spellcheck="false"
          placeholder="https://ferries.example/timetable"
      /></FormField>
      <div class="pair">
        <FormField label="Status" for="code" :error="wrong('code')">
          <ElSelect id="code" v-model="form.code" :disabled="disabled">
            <ElOption :value="301" label="301 for good" /><ElOption :value="302" label="302 for now" /><ElOption
              :value="307"
              label="307 for now, with what was sent"
            /><ElOption :value="308" label="308 for good, with what was sent" />
          </ElSelect>
        </FormField>
        <div>
          <ElCheckbox v-model="form.keep_path" :disabled="disabled">keep the path</ElCheckbox>
          <ElCheckbox v-model="form.keep_query" :disabled="disabled">keep the query (what follows ?)</ElCheckbox>
        </div>
      </div>
    </template>
    <p v-if="form.served_as === 'dns-only'" class="quiet">No web server answers for it; its records are kept.</p>
  </div>
</template>

<style scoped>
.kinds {
  display: flex;
  flex-wrap: wrap;
  gap: 0 1.2rem;
}
</style>
