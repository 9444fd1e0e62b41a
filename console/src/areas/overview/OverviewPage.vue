<script setup lang="ts">
import { computed, defineAsyncComponent, watchEffect } from 'vue'
import { ElButton } from 'element-plus'
import { useRouter } from 'vue-router'
import { api, ask } from '../../api/client'
import { useLoad } from '../../composables/useLoad'
import PageHead from '../../parts/PageHead.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { useOwnAccounts } from '../../shell/useOwnAccounts'
import { isCustomer, may, session } from '../session/state'
import { caseLink, figureLink, listLink } from './links'

/** What needs somebody now, and how figures go. Customers begin at their account instead. */
// What needs somebody does not wait for the plots, which are most of this page's code.
const FigurePlot = defineAsyncComponent(() => import('./FigurePlot.vue'))
const router = useRouter()
const { accounts, only } = useOwnAccounts()
watchEffect(() => {
  if (isCustomer.value && accounts.value)
    void router.replace(only.value ? `/accounts/${only.value.sign_in_name}` : '/accounts')
})

const { data, refusal } = useLoad(async () => (isCustomer.value ? undefined : ask(api.GET('/api/v1/overview'))), {
  live: 10_000, // it sums up everything there is
  every: 60_000,
})
const figures = computed(() => data.value?.figures.filter((f) => f.points.length > 0) ?? [])
</script>

<template>
  <template v-if="!isCustomer">
    <PageHead :title="$t('Overview')" :about="session?.role === 'reseller' ? $t('Your accounts') : undefined">
      <ElButton v-if="may('accounts.open')" type="primary" @click="router.push('/accounts/open')">{{
        $t('Open an account')
      }}</ElButton>
    </PageHead>
    <ProblemNote :refusal="refusal" />
    <template v-if="data">
      <section aria-labelledby="needs">
        <h2 id="needs">{{ $t('What needs you now') }}</h2>
        <ul v-if="data.attention.length" class="needs">
          <li v-for="a in data.attention" :key="a.kind">
            <span class="warn" aria-hidden="true">▲</span>
            <div>
              <RouterLink v-if="listLink(a.kind)" :to="listLink(a.kind)!" class="title">{{ a.title }}</RouterLink><b
                v-else
                class="title"
                >{{ a.title }}</b
              >
              <div class="quiet worst">
                <template v-for="(name, n) in a.worst" :key="name"
                  ><template v-if="n">, </template
                  ><RouterLink v-if="caseLink(a.kind, name)" :to="caseLink(a.kind, name)!">{{ name }}</RouterLink
                  ><template v-else>{{ name }}</template></template
                ><template v-if="a.cases > a.worst.length">
                  {{ $t('and {worst} more', { worst: a.cases - a.worst.length }) }}</template
                >
              </div>
            </div>
          </li>
        </ul>
        <p v-else class="well">{{ $t('● Nothing. Everything is as it should be.') }}</p>
      </section>
      <section v-if="figures.length" aria-labelledby="figures">
        <h2 id="figures">{{ $t('Figures over time') }}</h2>
        <div class="plots">
          <FigurePlot v-for="f in figures" :key="f.key" :figure="f" :to="figureLink(f.key)" />
        </div>
      </section>
    </template>
  </template>
</template>

<style scoped>
.needs {
  display: grid;
  gap: 0;
  margin: 0;
  padding: 0;
  list-style: none;
  background: var(--sheet);
  border: 1px solid var(--line);
}
li {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 0.7rem;
  padding: 0.5rem 0.8rem;
  border-bottom: 1px solid var(--line-2);
}
li:last-child {
  border-bottom: 0;
}
.title {
  display: inline-block;
  font-weight: 600;
}
.title::first-letter {
  text-transform: uppercase;
}
a.title {
  color: inherit;
}
.worst {
  overflow-wrap: anywhere;
}
.worst a {
  color: inherit;
}
.well {
  margin: 0;
  padding: 0.6rem 0.8rem;
  background: var(--sheet);
  border: 1px solid var(--line);
}
.plots {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr));
  gap: 0.8rem;
}
</style>
