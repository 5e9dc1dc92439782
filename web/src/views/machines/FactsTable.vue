<script setup lang="ts" generic="T extends { name: string }">
import { useVirtualizer } from "@tanstack/vue-virtual";
import { computed, ref, watch } from "vue";
import { natural } from "../../lib/natural";
import type { Column } from "./columns";

/**
 * A long table of which only what can be seen is drawn. One tab stop; arrows move by row, Enter opens.
 * Sorted naturally by any column.
 */
const props = defineProps<{ rows: T[]; columns: Column<T>[]; label: string }>();
const emit = defineEmits<{ open: [row: T] }>();
const ROW = 29;
const scroller = ref<HTMLElement | null>(null);
const by = ref("");
const down = ref(false);
const at = ref(0);
const sorted = computed(() => {
  const column = props.columns.find((c) => c.id === by.value);
  if (!column) return props.rows;
  const way = down.value ? -1 : 1;
  const keyed = props.rows.map((row) => ({ row, key: column.sort ? column.sort(row) : column.text(row) }));
  keyed.sort(
    (a, b) => way * (typeof a.key === "number" ? a.key - (b.key as number) : natural(a.key, b.key as string)),
  );
  return keyed.map((k) => k.row);
});
watch(
  () => props.rows.length,
  (n) => (at.value = Math.min(at.value, Math.max(0, n - 1))),
);
const virtual = useVirtualizer(
  computed(() => ({
    count: sorted.value.length,
    getScrollElement: () => scroller.value,
    estimateSize: () => ROW,
    overscan: 12,
  })),
);
const seen = computed(() => virtual.value.getVirtualItems());
const above = computed(() => seen.value[0]?.start ?? 0);
const below = computed(() => Math.max(0, virtual.value.getTotalSize() - (seen.value.at(-1)?.end ?? 0)));
const width = computed(() => props.columns.reduce((sum, c) => sum + c.width, 0));
function sortBy(id: string) {
  if (by.value === id && down.value) [by.value, down.value] = ["", false];
  else [by.value, down.value] = [id, by.value === id];
}
function onKey(event: KeyboardEvent) {
  const page = Math.max(1, Math.floor((scroller.value?.clientHeight ?? 300) / ROW) - 2);
  const steps: Record<string, number> = {
    ArrowDown: 1,
    ArrowUp: -1,
    PageDown: page,
    PageUp: -page,
    Home: -sorted.value.length,
    End: sorted.value.length,
  };
  if (event.key === "Enter") {
    const row = sorted.value[at.value];
    if (row) emit("open", row);
  } else if (event.key in steps) {
    at.value = Math.min(sorted.value.length - 1, Math.max(0, at.value + steps[event.key]!));
    virtual.value.scrollToIndex(at.value);
  } else return;
  event.preventDefault();
}
</script>

<template>
  <div ref="scroller" class="scroller">
    <table
      class="plain"
      :style="{ minWidth: `${width}px` }"
      tabindex="0"
      role="grid"
      :aria-label="label"
      :aria-rowcount="rows.length"
      :aria-activedescendant="rows.length ? `row-${at}` : undefined"
      @keydown="onKey"
    >
      <colgroup>
        <col v-for="c in columns" :key="c.id" :style="{ width: `${c.width}px` }" />
      </colgroup>
      <thead>
        <tr>
          <th
            v-for="c in columns"
            :key="c.id"
            :class="{ n: c.number }"
            :aria-sort="by === c.id ? (down ? 'descending' : 'ascending') : 'none'"
          >
            <button type="button" @click="sortBy(c.id)" @keydown.enter.stop>
              {{ c.name }}<span v-if="by === c.id" class="soft">{{ down ? " (down)" : " (up)" }}</span>
            </button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-if="above" class="gap" aria-hidden="true" :style="{ height: `${above}px` }" />
        <tr
          v-for="v in seen"
          :id="`row-${v.index}`"
          :key="sorted[v.index]!.name"
          :class="{ at: v.index === at }"
          :aria-rowindex="v.index + 1"
          :data-row="sorted[v.index]!.name"
          @click="emit('open', sorted[v.index]!)"
        >
          <td
            v-for="c in columns"
            :key="c.id"
            :class="{ n: c.number, first: c.id === 'name' }"
            :title="c.text(sorted[v.index]!)"
          >
            <slot :name="c.id" :row="sorted[v.index]!">{{ c.text(sorted[v.index]!) }}</slot>
          </td>
        </tr>
        <tr v-if="below" class="gap" aria-hidden="true" :style="{ height: `${below}px` }" />
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.scroller {
  flex: 1;
  min-height: 0;
  overflow: auto;
  contain: strict;
}
table {
  table-layout: fixed;
}
table:focus-visible {
  outline-offset: -2px;
}
td {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  height: 29px !important;
  padding-top: 0 !important;
  padding-bottom: 0 !important;
}
td.first {
  font-family: var(--mono);
  font-weight: 640;
}
tr {
  cursor: pointer;
}
tr.gap {
  cursor: default;
}
table:focus-visible tr.at td {
  background: var(--slate-pale);
}
th button:hover {
  color: var(--ink);
  text-decoration: underline;
}
</style>
