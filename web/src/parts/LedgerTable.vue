<script setup lang="ts">
import { computed } from "vue";
import type { Figure } from "../api/client";
import { hundredths, printLedger, TIB, type LedgerRow } from "../lib/ledger";
import SumFigure from "./SumFigure.vue";

/** The account of every raw byte: the bar left to right is the sum top to bottom. Rounded parts add up as printed. */
const props = defineProps<{ ledgers: LedgerRow[]; total?: boolean; free?: Figure[]; binary?: boolean }>();
const printed = computed(() => printLedger(props.ledgers, ["free"]));
/** The same in binary units, rounded together by themselves, and in the same columns. */
const tebi = computed(() => {
  const found = printLedger(
    props.ledgers,
    printed.value.columns.map((c) => c.name),
    TIB,
  );
  const at = printed.value.columns.map((c) => found.columns.findIndex((f) => f.name === c.name));
  const pick = (row: { raw: number; cells: number[] }) => ({
    raw: row.raw,
    cells: at.map((i) => row.cells[i] ?? 0),
  });
  return props.total ? [...found.rows.map(pick), pick(found.total)] : found.rows.map(pick);
});
const bar = computed(() => (props.total ? printed.value.total : printed.value.rows[0]));
const segments = computed(() => {
  const whole = bar.value?.raw || 1;
  let from = 0;
  return printed.value.columns.map((column, i) => {
    const value = bar.value?.cells[i] ?? 0;
    const segment = { ...column, value, left: (from / whole) * 100, width: (value / whole) * 100 };
    from += value;
    return segment;
  });
});
const HEAD = 22; // per cent of the table's width before the first part's column
const leads = computed(() => {
  const columns = segments.value.length;
  return segments.value
    .filter((s) => s.value > 0)
    .map((s) => {
      const i = segments.value.indexOf(s);
      const from = (s.left + s.width / 2) * 10;
      const to = (HEAD + ((i + 0.8) * (100 - HEAD)) / columns) * 10;
      return `M${from.toFixed(1)} 0V4L${to.toFixed(1)} 15V20`;
    });
});
const rows = computed(() =>
  props.total ? [...printed.value.rows, printed.value.total] : printed.value.rows,
);
/** The exact sum behind a printed cell: raw less every other part. */
function figureOf(row: LedgerRow | undefined, column: { name: string; label: string }): Figure | null {
  if (!row) return null;
  if (column.name === "free") {
    const known = props.free?.find((f) => f.label === `Free in ${row.name}`);
    if (known) return known;
  }
  const part = row.parts.find((p) => p.name === column.name);
  if (!part?.bytes) return null;
  const others = row.parts.filter((p) => p.name !== column.name && p.bytes);
  return {
    label: `${row.name}: ${column.label}`,
    value: part.bytes,
    unit: "bytes",
    note: "",
    parts: [
      { operation: "+", label: "raw", value: row.raw, unit: "bytes", detail: "", grows: false },
      ...others.map((p) => ({
        operation: "−" as const,
        label: p.label,
        value: p.bytes,
        unit: "bytes" as const,
        detail: "",
        grows: false,
      })),
    ],
  };
}
/** Raw is what its parts are, in one row or in all of them. */
function rawFigure(row: number): Figure {
  const only = props.ledgers[row];
  const parts = only
    ? only.parts.filter((p) => p.bytes).map((p) => ({ label: p.label, bytes: p.bytes }))
    : props.ledgers.map((l) => ({ label: l.name, bytes: l.raw }));
  return {
    label: `${only?.name ?? "Whole site"}: raw`,
    value: parts.reduce((sum, p) => sum + p.bytes, 0),
    unit: "bytes",
    note: "Raw is the size the disks report.",
    parts: parts.map((p) => ({
      operation: "+" as const,
      label: p.label,
      value: p.bytes,
      unit: "bytes" as const,
      detail: "",
      grows: false,
    })),
  };
}
function totalFigure(column: { name: string; label: string }): Figure {
  const parts = props.ledgers
    .map((l) => ({ name: l.name, bytes: l.parts.find((p) => p.name === column.name)?.bytes ?? 0 }))
    .filter((p) => p.bytes);
  return {
    label: `Whole site: ${column.label}`,
    value: parts.reduce((sum, p) => sum + p.bytes, 0),
    unit: "bytes",
    note: "",
    parts: parts.map((p) => ({
      operation: "+" as const,
      label: p.name,
      value: p.bytes,
      unit: "bytes" as const,
      detail: "",
      grows: false,
    })),
  };
}
</script>

<template>
  <div class="ledger">
    <div class="bar" role="img" aria-label="Capacity from raw to free">
      <i
        v-for="s in segments"
        v-show="s.value > 0"
        :key="s.name"
        :class="`g-${s.name}`"
        :style="{ width: `${s.width}%` }"
        :title="`${s.label}: ${hundredths(s.value)} TB`"
        ><span v-if="s.width > s.label.length * 0.75 + 2">{{ s.label }}</span></i
      >
    </div>
    <svg class="leads" viewBox="0 0 1000 20" preserveAspectRatio="none" aria-hidden="true">
      <path v-for="d in leads" :key="d" :d="d" />
    </svg>
    <table>
      <colgroup>
        <col style="width: 12%" />
        <col style="width: 10%" />
        <col v-for="c in printed.columns" :key="c.name" />
      </colgroup>
      <thead>
        <tr>
          <th scope="col">TB</th>
          <th scope="col">raw</th>
          <th v-for="c in printed.columns" :key="c.name" scope="col">
            <i class="chip" :class="`g-${c.name}`" />{{ c.label }}
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(row, r) in rows" :key="row.name" :class="{ total: total && r === rows.length - 1 }">
          <th scope="row">{{ row.name }}</th>
          <td>
            <SumFigure :figure="rawFigure(r)">{{ hundredths(row.raw) }}</SumFigure>
          </td>
          <td v-for="(c, i) in printed.columns" :key="c.name">
            <template v-if="row.cells[i] || c.name === 'free'">
              <span class="op">{{ i === printed.columns.length - 1 ? "=" : "−" }}</span>
              <SumFigure v-if="total && r === rows.length - 1" :figure="totalFigure(c)">{{
                hundredths(row.cells[i] ?? 0)
              }}</SumFigure>
              <SumFigure v-else-if="figureOf(ledgers[r], c)" :figure="figureOf(ledgers[r], c)!">{{
                hundredths(row.cells[i] ?? 0)
              }}</SumFigure>
              <template v-else>{{ hundredths(row.cells[i] ?? 0) }}</template>
            </template>
          </td>
        </tr>
        <tr v-for="(row, r) in binary ? tebi.slice(-1) : []" :key="`tib${r}`" class="tib">
          <th scope="row">in TiB</th>
          <td>{{ hundredths(row.raw) }}</td>
          <td v-for="(c, i) in printed.columns" :key="c.name">
            {{ row.cells[i] || c.name === "free" ? hundredths(row.cells[i]!) : "" }}
          </td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  height: 34px;
  border: 1.5px solid var(--timber);
  background: var(--sheet);
}
.bar i {
  display: flex;
  align-items: center;
  overflow: hidden;
  font-style: normal;
  font-size: var(--t-s);
  font-weight: 600;
  white-space: nowrap;
  border-left: 1px solid var(--ink);
  min-width: 2px;
}
.bar i:first-child {
  border-left: 0;
}
.bar span {
  padding: 1px 6px;
  margin-left: 3px;
}
.leads {
  display: block;
  width: 100%;
  height: 16px;
  overflow: visible;
}
.leads path {
  fill: none;
  stroke: var(--edge);
  stroke-width: 1;
  vector-effect: non-scaling-stroke;
}
.g-boot_and_unfit {
  background: repeating-linear-gradient(45deg, var(--dark-seg) 0 4px, var(--dark-line) 4px 5.5px);
}
.g-unclaimed {
  background: repeating-linear-gradient(90deg, var(--slate-pale) 0 4px, var(--slate) 4px 5px);
}
.g-metadata {
  background: var(--stone);
}
.g-out_of_reach {
  background: repeating-linear-gradient(0deg, var(--sheet) 0 3px, var(--away) 3px 4px);
}
.g-stranded {
  background: repeating-linear-gradient(45deg, var(--sheet) 0 4px, var(--short) 4px 5px);
}
.g-held_back {
  background: radial-gradient(circle at 3px 3px, var(--stone) 1.1px, transparent 1.5px) 0 0/6px 6px
    var(--sheet);
}
.g-protection {
  background: var(--moss);
  color: var(--on-moss);
}
.g-protection_kept {
  background: repeating-linear-gradient(135deg, var(--moss-pale) 0 5px, var(--sheet) 5px 7px);
}
.g-moving {
  background: repeating-linear-gradient(135deg, var(--slate) 0 2px, var(--slate-pale) 2px 4px);
}
.g-written {
  background: var(--hay);
  color: var(--on-hay);
}
.g-promised {
  background: repeating-linear-gradient(90deg, var(--hay-pale) 0 4px, var(--hay) 4px 5.5px);
  color: var(--on-hay);
}
.g-cache {
  background: repeating-linear-gradient(0deg, var(--stone) 0 2px, var(--sheet) 2px 5px);
}
.g-spare {
  background: repeating-linear-gradient(90deg, var(--sheet) 0 5px, var(--edge) 5px 6px, var(--sheet) 6px 8px);
}
.g-leaving {
  background: repeating-linear-gradient(135deg, var(--sheet) 0 3px, var(--hay) 3px 5.5px);
}
.g-free {
  background: var(--sheet);
}
.bar .g-unclaimed span {
  background: var(--slate-pale);
}
.bar .g-promised span {
  background: var(--hay-pale);
  color: var(--ink);
}
.bar .g-cache span,
.bar .g-spare span,
.bar .g-leaving span {
  background: var(--sheet);
}
.bar .g-held_back span,
.bar .g-stranded span,
.bar .g-protection_kept span {
  background: var(--sheet);
}
.chip {
  display: inline-block;
  width: 10px;
  height: 10px;
  border: 1px solid var(--edge);
  margin-right: 4px;
  vertical-align: -1px;
}
table {
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
}
thead th {
  font-weight: 500;
  font-size: var(--t-xs);
  line-height: 1.2;
  color: var(--soft);
  text-align: right;
  vertical-align: bottom;
  padding: 0 8px 4px 0;
}
th:first-child {
  text-align: left;
}
tbody th {
  font-weight: 430;
  font-size: var(--t-s);
  text-align: left;
  border-top: 1px solid var(--rule);
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
td {
  font-family: var(--mono);
  font-size: var(--t-s);
  text-align: right;
  padding: 0 8px 0 0;
  height: 25px;
  border-top: 1px solid var(--rule);
  letter-spacing: -0.015em;
  white-space: nowrap;
}
tr.tib td,
tr.tib th {
  color: var(--soft);
  border-top: 0;
}
tr.total td,
tr.total th {
  border-top: 1.5px solid var(--ink);
  font-weight: 640;
  height: 30px;
}
.op {
  color: var(--faint);
  padding-right: 3px;
  font-weight: 400;
}
</style>
