<script setup lang="ts" generic="T extends { name: string }">
import { computed, nextTick, ref, watch } from "vue";
import { VDataTableVirtual } from "vuetify/components/VDataTable";
import { natural } from "../../lib/natural";
import type { Column } from "./columns";

/**
 * A long table of which only what can be seen is drawn. One tab stop; arrows move by row, Enter opens.
 * Sorted naturally by any column.
 */
const props = defineProps<{ rows: T[]; columns: Column<T>[]; label: string }>();
const emit = defineEmits<{ open: [row: T] }>();
const ROW = 29;
const whole = ref<HTMLElement | null>(null);
const table = ref<{ scrollToIndex: (index: number) => void } | null>(null);
const by = ref<{ key: string; order?: boolean | "asc" | "desc" }[]>([]);
const at = ref(0);
const headers = computed(() =>
  props.columns.map((c) => ({
    key: c.id,
    title: c.name,
    width: c.width,
    align: c.number ? ("end" as const) : ("start" as const),
    value: (row: T) => (c.sort ? c.sort(row) : c.text(row)),
    sort: (a: string | number, b: string | number) =>
      typeof a === "number" ? a - (b as number) : natural(a, b as string),
    cellProps: ({ item }: { item: T }) => ({
      title: c.text(item),
      class: { n: c.number, first: c.id === "name" },
    }),
    headerProps: { "aria-sort": sortOf(c.id), role: "columnheader" },
  })),
);
function sortOf(id: string) {
  const order = by.value.find((one) => one.key === id)?.order;
  return order === "asc" ? "ascending" : order === "desc" ? "descending" : "none";
}
const width = computed(() => props.columns.reduce((sum, c) => sum + c.width, 0));
watch(
  () => props.rows.length,
  (n) => (at.value = Math.min(at.value, Math.max(0, n - 1))),
);
const about = ({ item, index }: { item: T; index: number }) => ({
  id: `row-${index}`,
  class: { at: index === at.value },
  "aria-rowindex": index + 1,
  "data-row": item.name,
});
function onKey(event: KeyboardEvent) {
  if (event.target !== whole.value) return; // a heading is pressed
  const page = Math.max(1, Math.floor((whole.value?.clientHeight ?? 300) / ROW) - 2);
  const steps: Record<string, number> = {
    ArrowDown: 1,
    ArrowUp: -1,
    PageDown: page,
    PageUp: -page,
    Home: -props.rows.length,
    End: props.rows.length,
  };
  if (event.key === "Enter") whole.value?.querySelector<HTMLElement>("tr.at")?.click();
  else if (event.key in steps) void go(at.value + steps[event.key]!);
  else return;
  event.preventDefault();
}
async function go(to: number) {
  at.value = Math.min(props.rows.length - 1, Math.max(0, to));
  await nextTick();
  const row = whole.value?.querySelector("tr.at");
  if (row) row.scrollIntoView({ block: "nearest" });
  else table.value?.scrollToIndex(at.value);
}
</script>

<template>
  <div
    ref="whole"
    class="facts"
    tabindex="0"
    role="group"
    :aria-label="label"
    :aria-activedescendant="rows.length ? `row-${at}` : undefined"
    @keydown="onKey"
  >
    <VDataTableVirtual
      ref="table"
      v-model:sort-by="by"
      class="plain"
      :style="{ '--least': `${width}px` }"
      :headers="headers"
      :items="rows"
      item-value="name"
      :item-height="ROW"
      :row-props="about"
      :mobile="false"
      height="100%"
      fixed-header
      hide-no-data
      @click:row="(_: Event, { item }: { item: T }) => emit('open', item)"
    >
      <template v-for="c in columns" :key="c.id" #[`item.${c.id}`]="{ item }">
        <slot :name="c.id" :row="item">{{ c.text(item) }}</slot>
      </template>
    </VDataTableVirtual>
  </div>
</template>

<style scoped>
.facts {
  flex: 1;
  min-height: 0;
  overflow: hidden;
  contain: strict;
}
.facts:focus-visible {
  outline-offset: -2px;
}
.facts :deep(.v-table) {
  height: 100%;
}
.facts :deep(.v-table__wrapper) {
  overflow: auto;
}
.facts :deep(th.v-data-table-column--align-end) {
  text-align: right;
}
.facts :deep(th:hover) {
  color: var(--ink);
  text-decoration: underline;
}
.facts :deep(.v-data-table-header__content) {
  gap: 3px;
}
.facts :deep(.v-icon) {
  font-size: 11px;
}
.facts :deep(table) {
  table-layout: fixed;
  min-width: var(--least);
}
.facts :deep(tr[data-row] td) {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  height: 29px !important;
  padding-top: 0 !important;
  padding-bottom: 0 !important;
}
.facts :deep(td.first) {
  font-family: var(--mono);
  font-weight: 640;
}
.facts :deep(tr:not([data-row]) td) {
  height: 0; /* what is not drawn above and below */
  padding: 0;
  border: 0;
}
.facts :deep(tr[data-row]) {
  cursor: pointer;
}
.facts:focus-visible :deep(tr.at td) {
  background: var(--slate-pale);
}
</style>
