<script setup lang="ts">
import type { Measured } from "../../api/client";
import { count, milliseconds, percent } from "../../lib/format";
import { pathOf } from "../../lib/paths";

/** How the volumes of a policy fare beside what was to be expected, as their nodes tell. */
defineProps<{ measured: Measured[] }>();
type Compared = Measured["compared"][number];
const HALF_A_PERCENT = 0.005;

const WORDS: Record<Compared["of"], { name: string; say: (value: number) => string }> = {
  operations: { name: "of these done", say: (n) => `${Math.round(n).toLocaleString("en")} a second` },
  mean: { name: "an operation, on average", say: milliseconds },
  late: { name: "99 of 100, within", say: milliseconds },
  "disk operations": { name: "on disks, for one operation", say: (n) => n.toFixed(2) },
  "disk bytes": { name: "written to disks, for one byte", say: (n) => n.toFixed(2) },
  cached: { name: "reads that the cache serves", say: percent },
  served: { name: "share the fast tier takes", say: percent },
  risen: { name: "on the fast tier", say: (n) => count(n, "extent") },
};
const told = (row: Compared, value: number | null) => (value === null ? "" : WORDS[row.of].say(value));
function off(row: Compared): string {
  if (row.off === null) return row.why;
  const sign = row.off > 0 ? "+" : "−";
  if (Math.abs(row.off) < HALF_A_PERCENT) return "as expected";
  const points = Math.round(Math.abs(row.off) * 100);
  return row.of === "served" || row.of === "cached"
    ? `${sign}${count(points, "point")}`
    : `${sign}${points}%`;
}
const rate = (operations: number | null) =>
  operations === null ? "not told yet" : `${Math.round(operations).toLocaleString("en")} a second`;
</script>

<template>
  <VTable class="plain">
    <thead>
      <tr>
        <th scope="col">Volume</th>
        <th scope="col">Figure</th>
        <th scope="col" class="n">Lately</th>
        <th scope="col" class="n">To be expected</th>
        <th scope="col" class="n">Off by</th>
      </tr>
    </thead>
    <tbody v-for="m in measured" :key="m.volume">
      <tr>
        <th scope="rowgroup" :rowspan="m.compared.length + 1">
          <RouterLink :to="pathOf('volume', m.volume)">{{ m.volume }}</RouterLink>
        </th>
        <td>operations asked for</td>
        <td class="n">{{ rate(m.asked_per_second) }}</td>
        <td class="n">
          <template v-if="m.most_operations">at most {{ m.most_operations.toLocaleString("en") }}</template>
        </td>
        <td />
      </tr>
      <tr v-for="row in m.compared" :key="row.of">
        <td>{{ WORDS[row.of].name }}</td>
        <td class="n">{{ told(row, row.measured) }}</td>
        <td class="n">{{ told(row, row.expected) }}</td>
        <td class="n">{{ off(row) }}</td>
      </tr>
    </tbody>
  </VTable>
</template>

<style scoped>
th[scope="rowgroup"] {
  vertical-align: top;
  padding-top: 7px;
  border-bottom: 1px solid var(--rule) !important; /* it is a name among figures, and no head of a column */
  color: var(--ink) !important;
  font-size: inherit !important;
}
</style>
