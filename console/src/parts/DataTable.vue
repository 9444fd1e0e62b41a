<script setup lang="ts" generic="Row">
import { useRouter } from 'vue-router'

/** A dense table. Rows that lead somewhere are opened by click or Enter; arrows go through them. */
export interface Column<R> {
  key: string
  title: string
  /** Numbers stand at the right. */
  right?: boolean
  /** Left out on a narrow screen. */
  wide?: boolean
  /** Long text that may be broken into lines anywhere. */
  long?: boolean
  text?: (row: R) => string
}

const props = defineProps<{
  columns: Column<Row>[]
  rows: Row[] | undefined
  id: (row: Row) => string | number
  to?: (row: Row) => string
  caption: string
}>()

const router = useRouter()

function open(row: Row, event: Event) {
  if (!props.to || (event.target as HTMLElement).closest('a, button, input, label, .el-switch')) return
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
</script>

<template>
  <div class="frame">
    <table>
      <caption class="unseen">
        {{
          caption
        }}
      </caption>
      <thead>
        <tr>
          <th v-for="c in columns" :key="c.key" scope="col" :class="{ right: c.right, wide: c.wide }">{{ c.title }}</th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="row in rows"
          :key="id(row)"
          :tabindex="to ? 0 : undefined"
          :class="{ leads: to }"
          @click="open(row, $event)"
          @keydown.enter="open(row, $event)"
          @keydown.down="step($event, 1)"
          @keydown.up="step($event, -1)"
        >
          <td v-for="c in columns" :key="c.key" :class="{ right: c.right, wide: c.wide, long: c.long }">
            <slot :name="c.key" :row="row">{{ c.text?.(row) }}</slot>
          </td>
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
  position: sticky;
  top: 0;
  padding: 0.4rem 0.7rem;
  text-align: left;
  font-weight: 600;
  font-size: 0.86rem;
  color: var(--ink-2);
  border-bottom: 1px solid var(--ink-2);
  white-space: nowrap;
}
td {
  padding: 0.3rem 0.7rem;
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
  overflow-wrap: anywhere;
}
tr:last-child td {
  border-bottom: 0;
}
th.right,
td.right {
  text-align: right;
}
.leads {
  cursor: pointer;
}
.leads:hover td,
.leads:focus-visible td {
  background: var(--signal-wash);
}
.leads:focus-visible {
  outline-offset: -2px;
}
.unseen {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
@media (max-width: 760px) {
  .wide {
    display: none;
  }
}
</style>
