<script setup lang="ts">
import { ElCheckbox, ElInput, ElOption, ElRadio, ElRadioGroup, ElSelect } from 'element-plus'
import FormField from '../../parts/FormField.vue'
import type { Serving } from './serving'
import { t } from '../../language'

/** How a domain is to be served. */
const form = defineModel<Serving>({ required: true })
defineProps<{ sites: string[]; home: string; wrong: (name: string) => string | undefined; disabled?: boolean }>()
const kinds = [
  ['site', t('Site'), t('files of its own')],
  ['mirror', t('Mirror'), t('the content of another site')],
  ['redirect', t('Redirect'), t('visitors are sent elsewhere')],
  ['dns-only', t('DNS only'), t('no web server answers')],
] as const
</script>

<template>
  <div class="stack">
    <FormField :label="$t('Served as')" for="served-as" :error="wrong('served_as')">
      <ElRadioGroup
        id="served-as"
        v-model="form.served_as"
        class="kinds"
        :disabled="disabled"
        :aria-label="$t('Served as')"
      >
        <ElRadio v-for="[kind, label, about] in kinds" :key="kind" :value="kind" :title="about">{{ label }}</ElRadio>
      </ElRadioGroup>
    </FormField>
    <FormField
      v-if="form.served_as === 'site'"
      :label="$t('Document root')"
      for="root"
      :error="wrong('root')"
      :hint="$t('Below {home}/, in sites/', { home })"
    >
      <ElInput id="root" v-model="form.root" :disabled="disabled" spellcheck="false" placeholder="sites/…" />
    </FormField>
    <FormField
      v-if="form.served_as === 'mirror'"
      :label="$t('Shows the content of')"
      for="mirror-of"
      :error="wrong('mirror_of')"
      :hint="sites.length ? undefined : $t('There is no other site in this account')"
    >
      <ElSelect id="mirror-of" v-model="form.mirror_of" :disabled="disabled" :placeholder="$t('a site of this account')"
        ><ElOption v-for="s in sites" :key="s" :value="s" :label="s"
      /></ElSelect>
    </FormField>
    <template v-if="form.served_as === 'redirect'">
      <FormField :label="$t('Leads to')" for="target" :error="wrong('target')"
        ><ElInput
          id="target"
          v-model="form.target"
          :disabled="disabled"
          spellcheck="false"
          placeholder="https://ferries.example/timetable"
      /></FormField>
      <div class="pair">
        <FormField :label="$t('Status')" for="code" :error="wrong('code')">
          <ElSelect id="code" v-model="form.code" :disabled="disabled">
            <ElOption :value="301" :label="$t('301 for good')" /><ElOption
              :value="302"
              :label="$t('302 for now')"
            /><ElOption :value="307" :label="$t('307 for now, with what was sent')" /><ElOption
              :value="308"
              :label="$t('308 for good, with what was sent')"
            />
          </ElSelect>
        </FormField>
        <div>
          <ElCheckbox v-model="form.keep_path" :disabled="disabled">{{ $t('keep the path') }}</ElCheckbox>
          <ElCheckbox v-model="form.keep_query" :disabled="disabled">{{
            $t('keep the query (what follows ?)')
          }}</ElCheckbox>
        </div>
      </div>
    </template>
    <p v-if="form.served_as === 'dns-only'" class="quiet">
      {{ $t('No web server answers for it; its records are kept.') }}
    </p>
  </div>
</template>

<style scoped>
.kinds {
  display: flex;
  flex-wrap: wrap;
  gap: 0 1.2rem;
}
</style>
