<script setup lang="ts">
import { computed, ref, shallowRef } from 'vue'
import { ElButton, ElCheckbox, ElCheckboxGroup, ElDialog, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useForm } from '../../composables/useForm'
import { useLoad } from '../../composables/useLoad'
import { ago, moment } from '../../words'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FormField from '../../parts/FormField.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { useCopy } from '../../composables/useCopy'
import { t } from '../../language'

const { data, reload } = useLoad(() => ask(api.GET('/api/v1/tokens')))
const { data: scopes } = useLoad(() => ask(api.GET('/api/v1/scopes')))
const offered = computed(() => scopes.value?.scopes.filter((s) => s.yours))
const adding = ref(false)
const { form, general, error, refusal, busy, act } = useForm(
  () => ({ name: '', scopes: [] as string[], networks: '', until: '' }),
  adding,
)
const token = shallowRef<Schemas['Token']>()

function begin() {
  token.value = undefined
  adding.value = true
}
const add = () =>
  act(async () => {
    const body = {
      name: form.name,
      scopes: form.scopes,
      networks: form.networks.split(/[\s,]+/).filter(Boolean),
      ends_at: form.until ? new Date(`${form.until}T00:00:00`).toISOString() : undefined,
    }
    token.value = await made(api.POST('/api/v1/tokens', { body }))
    await reload()
  })
const { copied, copy } = useCopy(() => token.value?.secret ?? '')
async function leave(done: () => void) {
  const lost = token.value && !copied.value
  if (
    !lost ||
    (await confirmed(t('The token has not been copied and cannot be shown again. Close anyway?'), t('Close')))
  )
    done()
}
const remove = (token: Schemas['Token']) =>
  act(async () => {
    if (
      !(await confirmed(
        t('Revoke the token {name}? Programs that use it are refused at once.', { name: token.name }),
        t('Revoke'),
      ))
    )
      return
    await ask(api.DELETE('/api/v1/tokens/{number}', { params: { path: { number: token.id } } }))
    await reload()
  })
const columns: Column<Schemas['Token']>[] = [
  { key: 'name', title: t('Token'), long: true },
  { key: 'scopes', title: t('May'), long: true, text: (one) => one.scopes.join(', ') },
  { key: 'used', title: t('Last used'), wide: true, text: (one) => ago(one.used_at) },
  { key: 'end', title: '', right: true },
]
</script>

<template>
  <section>
    <h2>
      {{ $t('Tokens') }} <span class="quiet">{{ $t('let programs in, with no more rights than they need') }}</span>
    </h2>
    <ProblemNote v-if="!adding" :refusal="refusal" />
    <DataTable :id="(one) => one.id" :columns="columns" :rows="data?.tokens" :caption="$t('Your tokens')">
      <template #name="{ row }"
        ><b>{{ row.name }}</b
        ><span v-if="row.ends_at" class="quiet">
          {{ $t('until {ends}', { ends: moment(row.ends_at) }) }}</span
        ></template
      >
      <template #end="{ row }"
        ><ElButton size="small" @click="remove(row)">{{ $t('Revoke') }}</ElButton></template
      >
      <template #empty
        ><p class="quiet">{{ $t('You have none.') }}</p></template
      >
    </DataTable>
    <div class="acts add">
      <ElButton @click="begin">{{ $t('Create a token') }}</ElButton>
    </div>
    <ElDialog v-model="adding" :title="$t('Create a token')" width="min(38rem, 94vw)" :before-close="leave">
      <div v-if="token" class="stack">
        <p>
          <i18n-t keypath="Send it as {header}. It is shown only now." scope="global" tag="span"
            ><template #header><code>Authorization: Bearer …</code></template></i18n-t
          >
        </p>
        <p class="mono secret">{{ token.secret }}</p>
        <div class="acts">
          <ElButton type="primary" @click="copy">{{ copied ? $t('Copied') : $t('Copy') }}</ElButton>
        </div>
      </div>
      <form v-else id="add-token" class="stack" @submit.prevent="add">
        <FormField :label="$t('Name')" for="token-name" :error="error('name')" :hint="$t('What it is for')"
          ><ElInput id="token-name" v-model="form.name" maxlength="100" autocomplete="off"
        /></FormField>
        <fieldset>
          <legend>{{ $t('It may') }}</legend>
          <ElCheckboxGroup v-model="form.scopes" class="scopes"
            ><ElCheckbox v-for="s in offered" :key="s.name" :value="s.name" :title="s.about">{{
              s.about
            }}</ElCheckbox></ElCheckboxGroup
          >
        </fieldset>
        <div class="pair">
          <FormField
            :label="$t('From these networks')"
            for="token-networks"
            :error="error('networks')"
            :hint="$t('Empty is from anywhere')"
            ><ElInput id="token-networks" v-model="form.networks" placeholder="192.0.2.0/24" spellcheck="false"
          /></FormField>
          <FormField :label="$t('Until')" for="token-until" :error="error('ends_at')" :hint="$t('Empty is for good')"
            ><ElInput id="token-until" v-model="form.until" type="date"
          /></FormField>
        </div>
        <ProblemNote :refusal="general" />
      </form>
      <template #footer>
        <ElButton @click="leave(() => (adding = false))">{{ token ? $t('Done') : $t('Cancel') }}</ElButton>
        <ElButton
          v-if="!token"
          type="primary"
          native-type="submit"
          form="add-token"
          :disabled="!form.name.trim() || !form.scopes.length"
          :loading="Boolean(busy)"
          >{{ $t('Create token') }}</ElButton
        >
      </template>
    </ElDialog>
  </section>
</template>

<style scoped>
.add {
  margin-top: 0.5rem;
}
.secret {
  padding: 0.5rem 0.7rem;
  overflow-wrap: anywhere;
  background: var(--paper);
  border: 1px dashed var(--ink-2);
}
fieldset {
  margin: 0;
  padding: 0;
  border: 0;
}
legend {
  font-weight: 600;
}
.scopes {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr));
}
</style>
