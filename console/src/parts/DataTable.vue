<script setup lang="ts" generic="Row">
import { computed, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'
import { useResizeObserver } from '@vueuse/core'
import ColumnChoice from './ColumnChoice.vue'
import { useColumns } from '../composables/useColumns'

/**
 * A dense table. Rows that lead somewhere are opened by click or Enter; arrows go through them. With a
 * name, its columns can be chosen, and the choice is kept; with selected, rows are, by box or Space.
 */
export interface Column<R> {
  key: string
  title: string
  /** Numbers stand at the right. */
  right?: boolean
  /** Left out on a narrow screen. */
  wide?: boolean
  /** Long text that may be broken into lines anywhere. */
  long?: boolean
  /** Says which row it is, so it cannot be left out. */
  fixed?: boolean
  text?: (row: R) => string
}

const props = defineProps<{
  columns: Column<Row>[]
  rows: Row[] | undefined
  id: (row: Row) => string | number
  to?: (row: Row) => string
  caption: string
  name?: string
  /** Whether a row can be selected; all can when it is left out. */
  selectable?: (row: Row) => boolean
  /** What a row is called where it is selected. */
  label?: (row: Row) => string
}>()
/** The rows that are selected, by their ids, on this page and on others. */
const selected = defineModel<Map<string | number, Row>>('selected')

const router = useRouter()
const { shown, hidden, setHidden } = useColumns(
  () => props.name,
  () => props.columns,
)
const body = useTemplateRef<HTMLElement>('body')
const frame = useTemplateRef<HTMLElement>('frame')
const table = useTemplateRef<HTMLElement>('table')
/** Whether the table is wider than its place: then it is reached and moved by the keyboard, too. */
const scrolls = ref(false)
useResizeObserver([frame, table], () => {
  const at = frame.value
  scrolls.value = at !== null && at.scrollWidth > at.clientWidth + 1
})
const canSelect = (row: Row) => props.selectable?.(row) ?? true
const here = computed(() => props.rows?.filter(canSelect) ?? [])
const all = computed(() => here.value.length > 0 && here.value.every((row) => selected.value?.has(props.id(row))))
const some = computed(() => !all.value && here.value.some((row) => selected.value?.has(props.id(row))))

function select(rows: Row[], on: boolean) {
  const now = new Map(selected.value)
  for (const row of rows) {
    if (on) now.set(props.id(row), row)
    else now.delete(props.id(row))
  }
  selected.value = now
}
function toggle(row: Row) {
  if (selected.value && canSelect(row)) select([row], !selected.value.has(props.id(row)))
}
function space(row: Row, event: Event) {
  if (!selected.value || (event.target as HTMLElement).closest('a, button, input')) return
  event.preventDefault()
  toggle(row)
}

function open(row: Row, event: Event) {
  if (!props.to || (event.target as HTMLElement).closest('a, button, input, label, summary, .el-switch')) return
  if (window.getSelection()?.toString()) return
  void router.push(props.to(row))
}

function step(event: KeyboardEvent, by: 1 | -1) {
  const row = (event.target as HTMLElement).closest('tr')
  const next = by > 0 ? row?.nextElementSibling : row?.previousElementSibling
  if (next instanceof HTMLElement) {
    event.preventDefault()
    next.focus()
  }
}

/** Goes to the first row, or to the last. */
function jump(event: KeyboardEvent, to: 'first' | 'last') {
  const row = to === 'first' ? body.value?.firstElementChild : body.value?.lastElementChild
  if (row instanceof HTMLElement && (event.target as HTMLElement).tagName === 'TR') {
    event.preventDefault()
    row.focus()
  }
}
</script>

<template>
  <div ref="frame" class="frame" :tabindex="scrolls ? 0 : undefined">
    <table ref="table">
      <caption class="unseen">
        {{
          caption
        }}
      </caption>
      <thead>
        <tr>
          <th v-if="selected" scope="col" class="box">
            <input
              type="checkbox"
              :aria-label="$t('Select all on this page')"
              :checked="all"
              :indeterminate="some"
              @change="select(here, !all)"
            />
          </th>
          <th v-for="c in shown" :key="c.key" scope="col" :class="{ right: c.right, wide: c.wide }">{{ c.title }}</th>
          <th v-if="name" scope="col" class="choice wide">
            <ColumnChoice :columns="columns" :hidden="hidden" @change="setHidden" />
          </th>
        </tr>
      </thead>
      <tbody ref="body">
        <tr
          v-for="row in rows"
          :key="id(row)"
          :tabindex="to || selected ? 0 : undefined"
          :class="{ leads: to, selected: selected?.has(id(row)) }"
          @click="open(row, $event)"
          @keydown.enter="open(row, $event)"
          @keydown.space="space(row, $event)"
          @keydown.down="step($event, 1)"
          @keydown.up="step($event, -1)"
          @keydown.home="jump($event, 'first')"
          @keydown.end="jump($event, 'last')"
        >
          <td v-if="selected" class="box">
            <input
              v-if="canSelect(row)"
              type="checkbox"
              :aria-label="$t('Select {id}', { id: label?.(row) ?? id(row) })"
              :checked="selected.has(id(row))"
              @change="toggle(row)"
            />
          </td>
          <td v-for="c in shown" :key="c.key" :class="{ right: c.right, wide: c.wide, long: c.long }">
            <slot :name="c.key" :row="row">{{ c.text?.(row) }}</slot>
          </td>
          <td v-if="name" class="choice wide"></td>
        </tr>
      </tbody>
    </table>
  </div>
  <slot v-if="rows && rows.length === 0" name="empty" />
</template>

<style scoped>
.frame {
  overflow-x: auto;
  background: var(--sheet);
  border: 1px solid var(--line);
}
table {
  width: 100%;
  border-collapse: collapse;
}
th {
  padding: 0.4rem 0.55rem;
  text-align: start;
  font-weight: 600;
  font-size: 0.86rem;
  color: var(--ink-2);
  border-bottom: 1px solid var(--ink-2);
  white-space: nowrap;
}
td {
  padding: 0.3rem 0.55rem;
  border-bottom: 1px solid var(--line-2);
  vertical-align: middle;
  white-space: nowrap;
}
td :deep(.el-checkbox) {
  height: auto;
  vertical-align: middle;
}
td.long {
  max-width: 30rem;
  white-space: normal;
}
/* Words break anywhere before they widen the table: long names of limits, paths, keys and serial numbers. */
td.long:not(.right) {
  overflow-wrap: anywhere;
}
.box {
  width: 1px;
  padding-inline-end: 0;
}
.box input {
  width: 15px;
  height: 15px;
  margin: 0;
  accent-color: var(--signal);
  vertical-align: -2px;
}
.choice {
  width: 1px;
  padding: 0 0.4rem;
}
tr:last-child td {
  border-bottom: 0;
}
th.right,
td.right {
  text-align: end;
}
.leads {
  cursor: pointer;
}
.leads:hover td,
.leads:focus-visible td,
.selected td {
  background: var(--signal-wash);
}
tr:focus-visible {
  outline-offset: -2px;
}
@media (min-width: 761px) {
  td.long:not(.right) {
    min-width: 8rem;
  }
}
@media (max-width: 760px) {
  th,
  td {
    padding-inline: 0.5rem;
  }
  .wide {
    display: none;
  }
}
</style>
