<script setup lang="ts">
import { ref } from 'vue'
import { ElButton, ElInput } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import FormField from '../../parts/FormField.vue'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { moment } from '../../words'
import { may } from '../session/state'
import BoundFields from './BoundFields.vue'
import NewAuthority from './NewAuthority.vue'
import { boundWords } from './bounds'
import { confirmed } from '../../parts/confirm'
import { t } from '../../language'

type Authority = Schemas['Authority']
const {
  data,
  refusal: missing,
  reload,
} = useLoad(() => ask(api.GET('/api/v1/authorities')), {
  live: true,
})
const { refusal: refused, busy, act } = useAct()
const adding = ref(false)
const changing = ref('')
const form = ref<{ email: string; bounds: Schemas['Bound'][] }>({ email: '', bounds: [] })

const change = (a: Authority, body: Schemas['AuthorityChange'], asks = '') =>
  act(async () => {
    if (asks && !(await confirmed(asks, t('Continue')))) return
    await made(
      api.PATCH('/api/v1/authorities/{authority}', {
        params: { path: { authority: a.name }, header: { 'If-Match': `"${a.version}"` } },
        body,
      }),
    )
    changing.value = ''
    await reload()
  }, a.name)
const remove = (a: Authority) =>
  act(async () => {
    if (!(await confirmed(t('Remove {name}?', { name: a.name }), t('Remove')))) return
    await made(api.DELETE('/api/v1/authorities/{authority}', { params: { path: { authority: a.name } } }))
    await reload()
  })
function begin(a: Authority) {
  form.value = { email: a.email, bounds: a.bounds.map((b) => ({ ...b })) }
  changing.value = a.name
}
const limited = (a: Authority) =>
  a.limited_until && new Date(a.limited_until) > new Date() ? a.limited_until : undefined
</script>

<template>
  <PageHead :title="$t('Authorities')" :about="$t('Who issues certificates for sites')">
    <ElButton v-if="may('authorities.change')" type="primary" @click="adding = true">{{
      $t('Add an authority')
    }}</ElButton>
  </PageHead>
  <ProblemNote :refusal="missing ?? refused" />
  <article v-for="a in data?.authorities" :key="a.name">
    <div class="titled">
      <h2>
        {{ a.name }} <span class="quiet">{{ a.usual ? $t('the usual one') : '' }}</span>
      </h2>
      <span v-if="may('authorities.change')" class="links">
        <button
          v-if="!a.usual"
          type="button"
          class="link"
          :disabled="busy === a.name"
          @click="change(a, { usual: true }, $t('Have {name} asked where a site names none?', { name: a.name }))"
        >
          {{ $t('Make it the usual one') }}
        </button>
        <button type="button" class="link" @click="begin(a)">{{ $t('Change…') }}</button>
        <button
          type="button"
          class="link"
          :disabled="busy === a.name"
          @click="change(a, { new_key: true }, $t('Give our account at {name} another key?', { name: a.name }))"
        >
          {{ $t('New account key') }}
        </button>
        <button v-if="!a.certificates" type="button" class="link" @click="remove(a)">{{ $t('Remove…') }}</button>
      </span>
    </div>
    <dl>
      <dt>{{ $t('In use') }}</dt>
      <dd>
        <RouterLink :to="`/certificates?authority=${a.name}`">{{
          $t('{n} certificate | {n} certificates', { n: a.certificates })
        }}</RouterLink>
      </dd>
      <dt>{{ $t('Directory') }}</dt>
      <dd>
        <code>{{ a.directory }}</code>{{ ' '
        }}<span v-if="a.own_root" class="quiet">{{ $t('with a root of its own') }}</span>
      </dd>
      <dt>{{ $t('Our account') }}</dt>
      <dd>
        <code>{{ a.account }}</code><span v-if="a.external_id" class="quiet">
          {{ $t('bound to {external_id}', { external_id: a.external_id }) }}</span
        >
      </dd>
      <dt>{{ $t('Writes to') }}</dt>
      <dd>{{ a.email || $t('nobody') }}</dd>
      <dt>{{ $t('Known to CAA records as') }}</dt>
      <dd>{{ a.identities.join(', ') || $t('nothing') }}</dd>
      <dt>{{ $t('Kind of certificates') }}</dt>
      <dd>{{ a.profile || $t('its usual one') }}</dd>
      <dt>{{ $t('Terms agreed to') }}</dt>
      <dd>
        <a v-if="a.terms" :href="a.terms" target="_blank" rel="noreferrer noopener">{{ a.terms }}</a><template v-else>{{
          $t('it has none')
        }}</template>
      </dd>
      <dt>{{ $t('Ordered at most') }}</dt>
      <dd>{{ boundWords(a.bounds) }}</dd>
      <template v-if="limited(a)"
        ><dt class="warn">{{ $t('▲ Asked too often') }}</dt>
        <dd class="warn">{{ $t('takes the next order {a}', { a: moment(limited(a)) }) }}</dd></template
      >
    </dl>
    <form
      v-if="changing === a.name"
      @submit.prevent="change(a, { email: form.email.trim(), bounds: form.bounds })"
      @keydown.esc="changing = ''"
    >
      <FormField
        :label="$t('Writes to')"
        :for="`email-${a.name}`"
        :error="refused?.field('email')"
        :hint="$t('The authority has this address; empty is nobody')"
        ><ElInput :id="`email-${a.name}`" v-model="form.email" type="email" autocomplete="off" spellcheck="false"
      /></FormField>
      <FormField :label="$t('Ordered at most')" :for="`bounds-${a.name}`" :error="refused?.field('bounds')"
        ><BoundFields :id="`bounds-${a.name}`" v-model="form.bounds"
      /></FormField>
      <div class="acts">
        <ElButton type="primary" native-type="submit" :loading="busy === a.name">{{
          $t('Save changes')
        }}</ElButton><ElButton @click="changing = ''">{{ $t('Cancel') }}</ElButton>
      </div>
    </form>
  </article>
  <div v-if="data && !data.authorities.length" class="empty">
    <h2>{{ $t('No authority has been added yet') }}</h2>
    <p>
      {{
        $t(
          'Until then, every site has a certificate that its server has made itself, and visitors are warned. Any authority that speaks ACME (RFC 8555) will do; you need the address of its directory.',
        )
      }}
    </p>
  </div>
  <NewAuthority v-model="adding" @done="reload" />
</template>

<style scoped>
article {
  margin-bottom: 1rem;
  padding: 0.8rem 1rem;
  background: var(--sheet);
  border: 1px solid var(--line);
}
.links {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
}
dl {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.25rem 1.2rem;
  margin: 0;
}
dt {
  color: var(--ink-2);
}
dt.warn {
  color: var(--signal);
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
form > * {
  max-width: 44rem;
}
form {
  display: grid;
  gap: 0.7rem;
  margin-top: 0.8rem;
  padding-top: 0.8rem;
  border-top: 1px solid var(--line);
}
@media (max-width: 760px) {
  dl {
    grid-template-columns: minmax(0, 1fr);
    gap: 0;
  }
  dd {
    margin-bottom: 0.4rem;
  }
}
</style>
