<script setup lang="ts">
import type { LevelRow } from "../api/client";
import { terabytes } from "../lib/format";

/** Every level of fault domain, before and after: where they differ, the old value stands beside the new one. */
const props = defineProps<{ before: LevelRow[]; after: LevelRow[] }>();
const was = (level: string) => props.before.find((b) => b.level === level);
const stranded = (bytes: number | null | undefined) =>
  bytes === null || bytes === undefined ? "too few" : bytes ? terabytes(bytes) : "none";
const cells = (row: LevelRow) => [
  { name: "domains", now: String(row.domains), old: String(was(row.level)?.domains ?? "") },
  {
    name: "smallest",
    now: `${row.smallest_name} ${terabytes(row.smallest)}`,
    old: `${was(row.level)?.smallest_name} ${terabytes(was(row.level)?.smallest ?? 0)}`,
  },
  {
    name: "largest",
    now: `${row.largest_name} ${terabytes(row.largest)}`,
    old: `${was(row.level)?.largest_name} ${terabytes(was(row.level)?.largest ?? 0)}`,
  },
  { name: "two", now: stranded(row.stranded_two), old: stranded(was(row.level)?.stranded_two) },
  { name: "three", now: stranded(row.stranded_three), old: stranded(was(row.level)?.stranded_three) },
];
</script>

<template>
  <table class="levels" aria-label="Effect on every level">
    <thead>
      <tr>
        <th>Level</th>
        <th>Domains</th>
        <th>Smallest, TB</th>
        <th>Largest, TB</th>
        <th>Stranded, 2 copies</th>
        <th>3 copies</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="row in after" :key="row.level" :data-level="row.level">
        <td>{{ row.level }}</td>
        <td v-for="c in cells(row)" :key="c.name" :class="{ changed: was(row.level) && c.now !== c.old }">
          <s v-if="was(row.level) && c.now !== c.old">{{ c.old }}</s> {{ c.now }}
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.levels {
  width: 100%;
  border-collapse: collapse;
  font-size: var(--t-s);
  margin: 2px 0 6px;
}
th {
  font-weight: 500;
  font-size: var(--t-xs);
  color: var(--soft);
  text-align: right;
  border-bottom: 1.5px solid var(--ink);
  padding: 0 0 3px 12px;
}
td {
  border-bottom: 1px solid var(--rule);
  padding: 3px 0 3px 12px;
  text-align: right;
  font-family: var(--mono);
  letter-spacing: -0.015em;
}
th:first-child,
td:first-child {
  text-align: left;
  padding-left: 0;
  font-family: var(--ui);
}
.changed {
  font-weight: 640;
}
s {
  color: var(--faint);
  font-weight: 430;
  margin-right: 6px;
}
</style>
