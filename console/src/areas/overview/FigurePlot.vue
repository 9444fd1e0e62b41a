<script setup lang="ts">
import { computed, onMounted, onScopeDispose, useTemplateRef, watch } from 'vue'
import { useResizeObserver } from '@vueuse/core'
import { LineChart } from 'echarts/charts'
import { GridComponent } from 'echarts/components'
import { init, use, type EChartsType } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import type { Schemas } from '../../api/client'
import { useDark } from '../../composables/useDark'
import { dayOf, minuteOf } from '../../words'
import { number, t } from '../../language'

/** A figure over time, as a small plot without axes to read: its shape, its range, and what it is now. */
use([LineChart, GridComponent, CanvasRenderer])
const props = defineProps<{ figure: Schemas['Figure']; to: string }>()
const box = useTemplateRef<HTMLElement>('box')
const { dark } = useDark()
let plot: EChartsType | undefined

const written = (value: number) =>
  props.figure.unit === 'percent' ? `${Math.round(value)}%` : number(Math.round(value))
const values = computed(() => props.figure.points.map((p) => p.value))
const range = computed(() =>
  t('{least} to {most}', { least: written(Math.min(...values.value)), most: written(Math.max(...values.value)) }),
)
const span = computed(() => {
  const n = props.figure.points.length
  return props.figure.step === 'day' ? t('{n} day | {n} days', { n }) : t('{n} hour | {n} hours', { n })
})

function draw() {
  if (!plot || !box.value) return
  const style = getComputedStyle(box.value)
  const line = style.getPropertyValue('--fill').trim()
  const max = Math.max(...values.value)
  plot.setOption({
    animation: false,
    grid: { left: 1, right: 4, top: 4, bottom: 2 },
    xAxis: { type: 'time', show: false },
    yAxis: {
      type: 'value',
      show: false,
      // A figure that hardly changes is a flat line, not a mountain range.
      min: props.figure.unit === 'percent' ? 0 : (range: { min: number }) => Math.max(0, range.min - 0.1 * max - 1),
      max: props.figure.unit === 'percent' ? 100 : undefined,
    },
    series: [
      {
        type: 'line',
        showSymbol: false,
        step: props.figure.step === 'day' ? 'end' : false,
        lineStyle: { width: 1.5, color: line },
        itemStyle: { color: line },
        areaStyle: { color: line, opacity: 0.14 },
        data: props.figure.points.map((p) => [p.at, p.value]),
      },
    ],
  })
}

onMounted(() => {
  plot = init(box.value!, null, { renderer: 'canvas' })
  draw()
})
useResizeObserver(box, () => plot?.resize())
watch([() => props.figure, dark], draw, { flush: 'post' })
onScopeDispose(() => plot?.dispose())
</script>

<template>
  <figure>
    <figcaption>
      <RouterLink :to="to">{{ figure.title }}</RouterLink>
      <b>{{ written(figure.now) }}</b>
    </figcaption>
    <div v-show="values.length > 1" ref="box" class="plot" aria-hidden="true"></div>
    <p v-if="values.length < 2" class="quiet">{{ $t('The first value; a plot follows.') }}</p>
    <div v-else class="quiet foot">
      <span>{{ $t('{range} in {what}', { range, what: span }) }}</span>
      <details>
        <summary>{{ $t('Values') }}</summary>
        <div class="values">
          <table>
            <caption class="unseen">
              {{
                figure.title
              }}
            </caption>
            <tbody>
              <tr v-for="p in [...figure.points].reverse()" :key="p.at">
                <th scope="row">{{ figure.step === 'day' ? dayOf(p.at) : minuteOf(p.at) }}</th>
                <td>{{ written(p.value) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </details>
    </div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  padding: 0.5rem 0.7rem 0.45rem;
  background: var(--sheet);
  border: 1px solid var(--line);
}
figcaption {
  display: flex;
  justify-content: space-between;
  gap: 0.6rem;
  align-items: baseline;
}
figcaption a {
  color: inherit;
}
figcaption b {
  font: 600 1.15rem var(--serif);
}
.plot {
  height: 64px;
}
.foot {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0 0.8rem;
  font-size: 0.86rem;
}
details[open] {
  width: 100%;
}
p {
  margin: 0.3rem 0 0;
  font-size: 0.86rem;
}
summary {
  cursor: pointer;
}
.values {
  max-height: 14rem;
  overflow: auto;
}
th {
  padding-inline-end: 1rem;
  font-weight: 400;
  text-align: start;
}
td {
  text-align: end;
}
</style>
