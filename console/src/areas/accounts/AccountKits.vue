<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, ask, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { useLoad } from '../../composables/useLoad'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import { confirmed } from '../../parts/confirm'
import { amount } from '../../words'
import { needsOf } from '../kits/words'
import { may } from '../session/state'
import InstallKit from './InstallKit.vue'
import UpdateKit from './UpdateKit.vue'
import { useAccount } from './useAccount'
import { t } from '../../language'

/** What the sites of an account have begun with, and what they could begin with. */
const { name, data: account, open, after } = useAccount()
const { data, refusal, reload } = useLoad(
  () => ask(api.GET('/api/v1/accounts/{account}/kits', { params: { path: { account: name.value } } })),
  { on: name, live: true },
)
const has = computed(() => account.value?.features.some((f) => f.feature === 'kits' && f.on))
const change = computed(() => open.value && may('kits.install'))

type SiteKit = Schemas['SiteKit']
const states: Record<SiteKit['state'], string> = {
  installed: t('in use'),
  installing: t('being installed'),
  updating: t('being updated'),
  removing: t('being removed'),
  undoing: t('being put back'),
}
const columns: Column<SiteKit>[] = [
  { key: 'domain', title: t('Site'), long: true },
  { key: 'title', title: t('Kit'), text: (s) => s.title },
  { key: 'version', title: t('Version') },
  { key: 'state', title: t('State'), wide: true, text: (s) => states[s.state] },
  { key: 'database', title: t('Database'), wide: true },
  { key: 'acts', title: '', right: true },
]
const installing = ref<Schemas['OfferedKit']>()
/** The site whose kit is being updated, by its domain. */
const updating = ref('')
const updated = computed(() => data.value?.sites.find((s) => s.domain === updating.value))
const { refusal: acting, act } = useAct()
async function done(operation: number) {
  installing.value = undefined
  updating.value = ''
  after(operation)
  await reload()
}
const remove = (s: SiteKit) =>
  act(async () => {
    const question = s.database
      ? t(
          'Remove {title} from {domain}, with all files of the site and the database {database}? Nothing brings them back.',
          {
            title: s.title,
            domain: s.domain,
            database: s.database,
          },
        )
      : t('Remove {title} from {domain}, with all files of the site? Nothing brings them back.', {
          title: s.title,
          domain: s.domain,
        })
    if (!(await confirmed(question, t('Remove')))) return
    const { operation } = await made(
      api.DELETE('/api/v1/accounts/{account}/domains/{domain}/kit', {
        params: { path: { account: name.value, domain: s.domain }, query: { delete: true } },
      }),
    )
    await done(operation)
  })
</script>

<template>
  <ProblemNote :refusal="refusal" />
  <template v-if="data && account">
    <template v-if="data.sites.length">
      <h2>{{ $t('In use') }}</h2>
      <ProblemNote :refusal="acting" />
      <DataTable :id="(s) => s.domain" :columns="columns" :rows="data.sites" :caption="$t('Sites with a kit')">
        <template #domain="{ row }"
          ><RouterLink :to="`/accounts/${name}/domains/${row.domain}`">{{ row.domain }}</RouterLink></template
        >
        <template #version="{ row }"
          >{{ row.version }}{{ ' '
          }}<span v-if="row.newer" class="newer">{{ $t('{version} is there', { version: row.newer }) }}</span></template
        >
        <template #database="{ row }"
          ><RouterLink v-if="row.database" :to="`/accounts/${name}/databases/${row.database}`"
            ><code>{{ row.database }}</code></RouterLink
          ><span v-else class="quiet">–</span></template
        >
        <template #acts="{ row }"
          ><template v-if="change && row.state === 'installed'"
            ><button
              type="button"
              class="link"
              :aria-label="$t('Update or change {name}', { name: row.domain })"
              @click="updating = row.domain"
            >
              {{ row.newer ? $t('Update') : $t('Change') }}</button
            >{{ ' '
            }}<button
              type="button"
              class="link"
              :aria-label="$t('Remove the kit of {name}', { name: row.domain })"
              @click="remove(row)"
            >
              {{ $t('Remove') }}
            </button></template
          ></template
        >
      </DataTable>
    </template>
    <h2>{{ $t('A site can begin with') }}</h2>
    <p v-if="!has" class="quiet">{{ $t('Kits are not part of what this account may use.') }}</p>
    <p v-else-if="!data.kits.length" class="empty">
      {{ $t('No kit is offered to this account. Which ones are is a matter of its plan.') }}
    </p>
    <ul v-else class="gallery">
      <li v-for="k in data.kits" :key="k.name">
        <h3>{{ k.title }}</h3>
        <p>{{ k.about }}</p>
        <p class="quiet">
          {{
            $t('Version {version}, {size}; needs {needs}', {
              version: k.version,
              size: amount(k.size, 'bytes'),
              needs: needsOf(k.needs),
            })
          }}
        </p>
        <p v-for="why in k.missing" :key="why" class="missing">{{ why }}</p>
        <ElButton
          v-if="change && !k.missing.length"
          :aria-label="$t('Install {name}', { name: k.title })"
          @click="installing = k"
          >{{ $t('Install') }}</ElButton
        >
      </li>
    </ul>
    <InstallKit
      :kit="installing"
      :account="name"
      :taken="data.sites"
      @closed="installing = undefined"
      @started="done"
    />
    <UpdateKit :site="updated" :account="name" @closed="updating = ''" @started="done" />
  </template>
</template>

<style scoped>
h2:not(:first-child) {
  margin-top: 1.6rem;
}
.gallery {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(17rem, 1fr));
  gap: 0.9rem;
  padding: 0;
  margin: 0.6rem 0;
  list-style: none;
}
.gallery li {
  display: flex;
  flex-direction: column;
  align-items: flex-start;
  padding: 0.8rem 0.9rem;
  background: var(--sheet);
  border: 1px solid var(--rule);
}
.gallery h3,
.gallery p {
  margin: 0 0 0.35rem;
}
.gallery .el-button {
  margin-top: auto;
}
.missing,
.newer {
  color: var(--signal);
}
</style>
