<script setup lang="ts">
import { computed, ref } from 'vue'
import { ElButton } from 'element-plus'
import { api, made, type Schemas } from '../../api/client'
import { useAct } from '../../composables/useAct'
import { ago, amount, dayOf, size } from '../../words'
import { confirmed } from '../../parts/confirm'
import DataTable, { type Column } from '../../parts/DataTable.vue'
import FactStrip from '../../parts/FactStrip.vue'
import FillBar from '../../parts/FillBar.vue'
import ProblemNote from '../../parts/ProblemNote.vue'
import StripFact from '../../parts/StripFact.vue'
import { limitsMet } from '../servers/hungry'
import { may } from '../session/state'
import SetException from './SetException.vue'
import { useAccount } from './useAccount'
import { t } from '../../language'

/** What is used, then what is allowed, then why. */
type Allowed = Schemas['Allowed']
const { name, data, open, after } = useAccount()
const path = computed(() => ({ account: name.value }))
const { refusal: acting, act } = useAct()
const excepting = ref(false)

const freeze = (frozen: boolean) =>
  act(async () => {
    const body = { frozen }
    after(
      (await made(api.PUT('/api/v1/accounts/{account}/frozen-terms', { params: { path: path.value }, body })))
        .operation,
    )
  })
const dropException = (e: Schemas['Exception']) =>
  act(async () => {
    const where = {
      ...path.value,
      what: e.limit ? ('limits' as const) : ('features' as const),
      key: e.limit ?? e.feature ?? '',
    }
    if (
      !(await confirmed(
        t("Remove the exception, so that the plan's value for {key} applies again?", { key: where.key }),
        t('Remove'),
      ))
    )
      return
    after(
      (await made(api.DELETE('/api/v1/accounts/{account}/exceptions/{what}/{key}', { params: { path: where } })))
        .operation,
    )
  })

const columns: Column<Allowed>[] = [
  { key: 'what', title: t('Limit'), text: (l) => l.title, long: true },
  { key: 'used', title: t('Used') },
  { key: 'left', title: t('Left'), right: true, text: (l) => (l.used === null ? '' : amount(l.left, l.unit)) },
  { key: 'source', title: t('Allowed by'), wide: true, long: true },
]
const exceptionColumns: Column<Schemas['Exception']>[] = [
  { key: 'what', title: t('What'), text: (e) => e.limit ?? t('feature {feature}', { feature: e.feature }) },
  { key: 'value', title: t('Set to'), right: true },
  { key: 'until', title: t('Until'), text: (e) => (e.ends_at ? dayOf(e.ends_at) : t('no end')) },
  { key: 'reason', title: t('Reason'), long: true },
  { key: 'drop', title: '', right: true },
]
const unitOf = (key?: string) => data.value?.allowance.find((l) => l.key === key)?.unit ?? 'count'
</script>

<template>
  <template v-if="data">
    <ProblemNote :refusal="acting" />
    <p v-if="data.frozen_terms" class="frozen">
      {{
        $t('Its limits are those of plan {plan}, frozen on {since}: changes of its plan do not apply.', {
          plan: data.frozen_terms.plan,
          since: dayOf(data.frozen_terms.since),
        })
      }}
      <button v-if="may('accounts.change')" type="button" class="link" @click="freeze(false)">
        {{ $t('Follow the plan again') }}
      </button>
    </p>
    <FactStrip v-if="data.running">
      <StripFact :name="$t('Runs now')"
        >{{ $t('{n} process | {n} processes', { n: data.running.processes }) }},
        {{ size(data.running.memory) }}</StripFact
      >
      <StripFact :name="$t('Processor')">{{ data.running.cpu }}%</StripFact>
      <StripFact :name="$t('Limits met in the last day')">{{ limitsMet(data.running.met) || $t('none') }}</StripFact>
      <StripFact :name="$t('Measured')">{{ ago(data.running.measured_at) }}</StripFact>
    </FactStrip>
    <section v-if="data.excepted.length">
      <h2>{{ $t('Set by hand') }}</h2>
      <DataTable
        :id="(e) => e.limit ?? e.feature ?? ''"
        :columns="exceptionColumns"
        :rows="data.excepted"
        :caption="$t('What is set by hand')"
      >
        <template #value="{ row }">{{
          row.limit ? amount(row.amount, unitOf(row.limit)) : row.on ? $t('on') : $t('off')
        }}</template>
        <template #reason="{ row }"
          >{{ row.reason }} <span class="quiet">{{ row.author }}, {{ ago(row.set_at) }}</span></template
        >
        <template #drop="{ row }"
          ><button v-if="may('exceptions.change')" type="button" class="link" @click="dropException(row)">
            {{ $t('Remove') }}
          </button></template
        >
      </DataTable>
    </section>
    <div class="titled">
      <h2>
        {{ $t('Usage and limits') }} <span class="quiet">{{ $t('plan {plan}', { plan: data.plan }) }}</span>
      </h2>
      <span v-if="open" class="acts">
        <ElButton
          v-if="!data.frozen && may('accounts.change')"
          :title="$t('Keep these limits when the plan changes')"
          @click="freeze(true)"
          >{{ $t('Freeze limits') }}</ElButton
        >
        <ElButton v-if="may('exceptions.change')" @click="excepting = true">{{ $t('Set by hand') }}</ElButton>
      </span>
    </div>
    <DataTable :id="(l) => l.key" :columns="columns" :rows="data.allowance" :caption="$t('Limits of the account')">
      <template #used="{ row }"
        ><span v-if="row.used === null" class="quiet">{{
          $t('up to {unit}', { unit: amount(row.value, row.unit) })
        }}</span
        ><FillBar v-else :used="row.used" :of="row.value" :unit="row.unit" :what="row.title"
      /></template>
      <template #source="{ row }"
        ><span :title="row.raised_by">{{ row.source }}</span></template
      >
    </DataTable>
    <p>
      <span class="quiet">{{ $t('Features:') }}</span>
      {{
        data.features
          .filter((f) => f.on)
          .map((f) => f.title)
          .join(', ') || $t('none')
      }}
    </p>
    <SetException v-model="excepting" :account="data" @done="after" />
  </template>
</template>
