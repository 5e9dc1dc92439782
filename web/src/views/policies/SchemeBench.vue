<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn, useBench, type BenchRow } from "../../api/client";
import { useChoices } from "../../kinds/choices";
import { binarySize, span, terabytes } from "../../lib/format";
import SumFigure from "../../parts/SumFigure.vue";

/** Schemes side by side on the disks of a pool. Which pool and which level stand in the address. */
const { data: barn } = useBarn();
const { levels } = useChoices();
const route = useRoute();
const router = useRouter();
const said = (name: string) => (typeof route.query[name] === "string" ? (route.query[name] as string) : "");
const pool = computed(() => said("pool") || (barn.value?.pools[0]?.name ?? ""));
const level = computed(() => said("level") || "rack");
const set = (more: Record<string, string>) => void router.replace({ query: { ...route.query, ...more } });
const { data: bench } = useBench(pool, level);
const LEVELS = ["room", "rack", "node", "disk"] as const;
const work = (of: { reads: number; writes: number }) => {
  const count = (n: number, what: string) =>
    n ? [`${Number.isInteger(n) ? n : n.toFixed(2)} ${what}${n === 1 ? "" : "s"}`] : [];
  return [...count(of.reads, "read"), ...count(of.writes, "write")].join(", ");
};
const remade = (of: BenchRow["repair_disk"]) => (of ? `${span(of.seconds)}${of.waits ? " *" : ""}` : "never");
const waits = computed(() =>
  Math.max(
    0,
    ...(bench.value?.rows ?? []).flatMap((r) => [r.repair_disk?.waits ?? 0, r.repair_node?.waits ?? 0]),
  ),
);
const write = (row: BenchRow) => ({
  query: {
    plan: "save-policy",
    by: row.k === 1 ? "copies" : "parity",
    k: String(row.k),
    m: String(row.m),
    over: row.level,
  },
});
</script>

<template>
  <section v-if="barn?.pools.length" aria-label="Schemes side by side">
    <div class="sec bench-head">
      <h2>Schemes side by side</h2>
      <span class="small">on the disks of</span>
      <VSelect
        :model-value="pool"
        :items="barn.pools.map((p) => p.name)"
        aria-label="Pool"
        width="150"
        @update:model-value="(p) => set({ pool: p })"
      />
      <span class="small">spread over</span>
      <VSelect
        :model-value="level"
        :items="levels"
        aria-label="Level"
        width="100"
        @update:model-value="(l) => set({ level: l })"
      />
      <span class="small"
        >as if its bulk tier were empty; times and loss are of it filled to its fill line</span
      >
    </div>
    <VTable v-if="bench" class="plain bench">
      <thead>
        <tr>
          <th>Scheme</th>
          <th class="n">Usable, TB</th>
          <th class="n">1 TiB takes</th>
          <th>Survives any</th>
          <th class="n">Needs</th>
          <th class="n">To heal</th>
          <th>Small write</th>
          <th>Whole stripe</th>
          <th>Read, one lost</th>
          <th>Disk remade</th>
          <th>Node remade</th>
          <th>Loss a year</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in bench.rows" :key="row.counted" :class="{ cannot: row.against }">
          <td class="scheme">
            <RouterLink :to="write(row)" :title="`Write a policy of ${row.counted}`">{{
              row.counted
            }}</RouterLink>
            <span v-if="row.usual" class="soft"> usual here</span>
          </td>
          <template v-if="row.usable">
            <td class="n">
              <SumFigure :figure="row.usable">{{ terabytes(row.usable.value) }}</SumFigure>
            </td>
            <td class="n">
              <SumFigure :figure="row.takes">{{ binarySize(row.takes.value) }}</SumFigure>
            </td>
            <td>
              <template v-for="l in LEVELS" :key="l"
                ><span v-if="row.survives[l]" class="level"
                  >{{ row.survives[l] }} {{ l }}{{ row.survives[l] === 1 ? "" : "s" }}</span
                ></template
              >
              <span v-if="!row.m">no loss</span>
            </td>
            <td class="n">{{ row.needs }}</td>
            <td class="n">{{ row.m ? row.to_heal : "" }}</td>
            <td>{{ work(row.small_write) }}</td>
            <td>{{ work(row.large_write) }}</td>
            <td>{{ row.m ? work(row.read_short) : "cannot" }}</td>
            <td>{{ remade(row.repair_disk) }}</td>
            <td>{{ remade(row.repair_node) }}</td>
            <td>{{ row.chance }}</td>
          </template>
          <td v-else colspan="11">
            {{ row.against }} <span class="soft">{{ row.cure }}</span>
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-if="bench" class="small">
      <template v-if="waits">
        * {{ span(waits) }} of it wait for a replacement: the others have no place for what was lost.
      </template>
      Times are the least that disks and ports allow, with the grace before them. {{ bench.left_out }}
    </p>
  </section>
</template>

<style scoped>
.bench-head {
  align-items: center;
  margin-top: 20px;
}
.bench th,
.bench td {
  white-space: nowrap;
}
.bench td[colspan] {
  white-space: normal;
}
.scheme {
  font-weight: 600;
}
.scheme .soft {
  font-weight: 430;
}
.cannot {
  color: var(--soft);
}
.level + .level::before {
  content: ", ";
}
</style>
