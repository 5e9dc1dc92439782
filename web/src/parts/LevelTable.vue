<script setup lang="ts">
import type { LevelRow } from "../api/client";
import { terabytes } from "../lib/format";

/**
 * Every level of fault domain, before and after: where they differ, the old value stands beside the new
 * one.
 */
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
  <VTable class="eff"
    ><caption class="unseen">
      Effect on every level
    </caption>
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
  </VTable>
</template>

<style scoped>
.changed {
  font-weight: 640;
}
s {
  color: var(--faint);
  font-weight: 430;
  margin-right: 6px;
}
</style>
