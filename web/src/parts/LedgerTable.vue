<script setup lang="ts">
import { computed } from "vue";
import type { Ledger } from "../api/client";
import { hundredths } from "../lib/format";
import SumFigure from "./SumFigure.vue";

/**
 * The account of every raw byte: the bar left to right is the sum top to bottom. whole: all of them in one.
 */
const props = defineProps<{ ledgers: Ledger[]; whole?: Ledger; binary?: boolean }>();
const rows = computed(() => (props.whole ? [...props.ledgers, props.whole] : props.ledgers));
const last = computed(() => rows.value.at(-1));
/** What prints as nothing in every row has no column; what is free always has. */
const columns = computed(() =>
  (last.value?.parts ?? [])
    .map(({ name, label }, at) => ({ name, label, at }))
    .filter(({ name, at }) => name === "free" || rows.value.some((row) => row.parts[at]!.tb > 0)),
);
const bar = computed(() => props.whole ?? props.ledgers[0]);
const segments = computed(() => {
  const whole = bar.value?.raw.tb || 1;
  let from = 0;
  return columns.value.map((column) => {
    const value = bar.value?.parts[column.at]?.tb ?? 0;
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
        <col style="width: 9%" />
        <col style="width: 7%" />
        <col v-for="c in columns" :key="c.name" />
      </colgroup>
      <thead>
        <tr>
          <th scope="col">TB</th>
          <th scope="col">raw</th>
          <th v-for="c in columns" :key="c.name" scope="col">
            <i class="chip" :class="`g-${c.name}`" />{{ c.label }}
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.name" :class="{ total: row === whole }">
          <th scope="row">{{ row.name }}</th>
          <td>
            <SumFigure v-if="row.raw.figure" :figure="row.raw.figure">{{ hundredths(row.raw.tb) }}</SumFigure>
            <template v-else>{{ hundredths(row.raw.tb) }}</template>
          </td>
          <td v-for="(c, i) in columns" :key="c.name">
            <template v-if="row.parts[c.at]!.tb || c.name === 'free'">
              <span class="op">{{ i === columns.length - 1 ? "=" : "−" }}</span>
              <SumFigure v-if="row.parts[c.at]!.figure" :figure="row.parts[c.at]!.figure!">{{
                hundredths(row.parts[c.at]!.tb)
              }}</SumFigure>
              <template v-else>{{ hundredths(row.parts[c.at]!.tb) }}</template>
            </template>
          </td>
        </tr>
        <tr v-if="binary && last" class="tib">
          <th scope="row">in TiB</th>
          <td>{{ hundredths(last.raw.tib) }}</td>
          <td v-for="c in columns" :key="c.name">
            {{ last.parts[c.at]!.tib || c.name === "free" ? hundredths(last.parts[c.at]!.tib) : "" }}
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
.g-thin {
  background:
    radial-gradient(circle at 4px 4px, var(--hay) 1.4px, transparent 1.8px) 0 0/8px 8px,
    var(--sheet);
}
.g-moving {
  background: repeating-linear-gradient(135deg, var(--slate) 0 2px, var(--slate-pale) 2px 4px);
}
.g-landing {
  background: repeating-linear-gradient(0deg, var(--slate-pale) 0 5px, var(--slate) 5px 6px);
}
.g-past {
  background: repeating-linear-gradient(0deg, var(--hay-pale) 0 3px, var(--hay-line) 3px 4px);
}
.g-binned {
  background: repeating-linear-gradient(45deg, var(--hay-pale) 0 3px, var(--stone) 3px 4px);
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
.bar .g-unclaimed span,
.bar .g-landing span {
  background: var(--slate-pale);
}
.bar .g-binned span,
.bar .g-past span,
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
.bar .g-thin span,
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
