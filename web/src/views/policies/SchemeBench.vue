<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn, useBench, type BenchAsked, type BenchRow } from "../../api/client";
import { useChoices } from "../../kinds/choices";
import { binarySize, percent, span, terabytes } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import SumFigure from "../../parts/SumFigure.vue";

/** Schemes side by side on the disks of a pool. Which pool and which level stand in the address. */
const { data: barn } = useBarn();
const { levels } = useChoices();
const route = useRoute();
const router = useRouter();
const said = (name: string) => (typeof route.query[name] === "string" ? (route.query[name] as string) : "");
const pool = computed(() => said("pool") || (barn.value?.pools[0]?.name ?? ""));
const level = computed(() => said("level") || "rack");
const set = (more: Record<string, string | string[]>) =>
  void router.replace({ query: { ...route.query, ...more } });
const number = (name: string) => (said(name) ? Number(said(name)) : undefined);
const listedIn = (name: string) => {
  const found = route.query[name];
  return (Array.isArray(found) ? found : [found]).filter((one): one is string => Boolean(one));
};
const pins = computed(() => listedIn("pin"));
const asked = computed<BenchAsked>(() => ({
  pool: pool.value,
  level: level.value as BenchAsked["level"],
  load: number("load"),
  reads: number("reads"),
  block: number("block"),
  pin: pins.value,
}));
const { data: bench, error } = useBench(asked);
const csv = computed(() => {
  const words = Object.entries(asked.value).flatMap(([name, value]) =>
    (Array.isArray(value) ? value : [value]).filter((v) => v !== undefined).map((v) => [name, String(v)]),
  );
  return `/api/bench/csv?${new URLSearchParams(words)}`;
});
/** Room and loss, or work and speed: twelve figures beside one another are all that a page takes. */
const show = computed(() => (said("show") === "speed" ? "speed" : "room"));
const SHOWN = [
  { title: "Room and loss", value: "room" },
  { title: "Work and speed", value: "speed" },
];
const BLOCKS = [4, 8, 16, 32, 64, 256, 1024].map((k) => ({
  title: k < 1024 ? `${k} KiB` : "1 MiB",
  value: k * 1024,
}));
const READS = [0, 0.25, 0.5, 0.7, 0.9, 1].map((share) => ({ title: percent(share), value: share }));
const pin = (key: string) =>
  set({ pin: pins.value.includes(key) ? pins.value.filter((one) => one !== key) : [...pins.value, key] });
const rows = computed(() => [
  ...(bench.value?.pinned ?? []).map((row) => ({ ...row, held: true })),
  ...(bench.value?.rows ?? []).map((row) => ({ ...row, held: false })),
]);
const took = (seconds: number | null) =>
  seconds === null
    ? "too much"
    : seconds < 0.01
      ? `${(seconds * 1000).toFixed(2)} ms`
      : `${(seconds * 1000).toFixed(0)} ms`;
const LEVELS = ["room", "rack", "node", "disk"] as const;
const work = (of: { reads: number; writes: number }) => {
  const count = (n: number, what: string) =>
    n ? [`${Number.isInteger(n) ? n : n.toFixed(2)} ${what}${n === 1 ? "" : "s"}`] : [];
  return [...count(of.reads, "read"), ...count(of.writes, "write")].join(", ");
};
const remade = (of: BenchRow["repair_disk"]) => (of ? `${span(of.seconds)}${of.waits ? " *" : ""}` : "never");
const waits = computed(() =>
  Math.max(0, ...rows.value.flatMap((r) => [r.repair_disk?.waits ?? 0, r.repair_node?.waits ?? 0])),
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
      <span role="group" aria-label="What is shown" class="chips">
        <VBtn
          v-for="s in SHOWN"
          :key="s.value"
          class="chip"
          :aria-pressed="show === s.value"
          @click="set({ show: s.value })"
          >{{ s.title }}</VBtn
        >
      </span>
      <span class="grow" />
      <a class="act small" :href="csv" download>As CSV</a>
    </div>
    <div v-if="show === 'speed' && bench" class="sec bench-head load">
      <span class="small">Under</span>
      <VTextField
        type="number"
        min="1"
        :model-value="bench.load.load"
        aria-label="Operations per second"
        width="90"
        @change="(e: Event) => set({ load: (e.target as HTMLInputElement).value })"
      />
      <span class="small">operations/s of</span>
      <VSelect
        :model-value="bench.load.block"
        :items="BLOCKS"
        aria-label="Bytes of an operation"
        width="96"
        @update:model-value="(n) => set({ block: String(n) })"
      />
      <VSelect
        :model-value="bench.load.reads"
        :items="READS"
        aria-label="Share that reads"
        width="84"
        @update:model-value="(n) => set({ reads: String(n) })"
      />
      <span class="small">of them read; of less than a strip each</span>
    </div>
    <ProblemNote :error="error" />
    <p v-if="!bench && !error" class="small">Laying schemes side by side …</p>
    <VTable v-if="bench" class="plain bench">
      <thead>
        <tr>
          <th>Scheme</th>
          <th class="n">Usable, TB</th>
          <th class="n">1 TiB takes</th>
          <template v-if="show === 'room'">
            <th>Survives any</th>
            <th class="n">Needs</th>
            <th class="n">To heal</th>
            <th>Disk remade</th>
            <th>Node remade</th>
            <th>Loss a year</th>
          </template>
          <template v-else>
            <th>Small write</th>
            <th>Whole stripe</th>
            <th>Read, one lost</th>
            <th class="n">Most, operations/s</th>
            <th class="n">Takes, on average</th>
            <th class="n">99 of 100 within</th>
          </template>
          <th><span class="unseen">Pin</span></th>
        </tr>
      </thead>
      <tbody>
        <tr
          v-for="row in rows"
          :key="`${row.held}${row.key}`"
          :class="{ cannot: row.against, held: row.held }"
          :data-pinned="row.held"
        >
          <td class="scheme">
            <RouterLink :to="write(row)" :title="`Write a policy of ${row.counted}`">{{
              row.counted
            }}</RouterLink>
            <span v-if="row.held" class="soft"> by {{ row.level }} in {{ row.pool }}</span>
            <span v-else-if="row.usual" class="soft"> usual here</span>
          </td>
          <template v-if="row.usable">
            <td class="n">
              <SumFigure :figure="row.usable">{{ terabytes(row.usable.value) }}</SumFigure>
            </td>
            <td class="n">
              <SumFigure :figure="row.takes">{{ binarySize(row.takes.value) }}</SumFigure>
            </td>
            <template v-if="show === 'room'">
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
              <td>{{ remade(row.repair_disk) }}</td>
              <td>{{ remade(row.repair_node) }}</td>
              <td>{{ row.chance }}</td>
            </template>
            <template v-else>
              <td>{{ work(row.small_write) }}</td>
              <td>{{ work(row.large_write) }}</td>
              <td>{{ row.m ? work(row.read_short) : "cannot" }}</td>
              <template v-if="row.speed">
                <td class="n" :title="`limited by ${row.speed.limit}`">
                  {{ Math.floor(row.speed.most).toLocaleString("en") }}
                  <span class="soft limit">{{ row.speed.limit }}</span>
                </td>
                <td class="n">{{ took(row.speed.mean) }}</td>
                <td class="n">{{ took(row.speed.late) }}</td>
              </template>
              <td v-else colspan="3" />
            </template>
          </template>
          <td v-else colspan="8">
            {{ row.against }} <span class="soft">{{ row.cure }}</span>
          </td>
          <td class="n">
            <VBtn
              v-if="row.held || !pins.includes(row.key)"
              class="small"
              :aria-label="`${row.held ? 'Unpin' : 'Pin'} ${row.counted} by ${row.level} in ${row.pool}`"
              @click="pin(row.key)"
              >{{ row.held ? "unpin" : "pin" }}</VBtn
            >
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-if="bench" class="small">
      <template v-if="waits">
        * {{ span(waits) }} of it wait for a replacement: the others have no place for what was lost.
      </template>
      As if the bulk tier were empty; times and loss are of it filled to its fill line: the least that disks
      and ports allow, with the grace before them. {{ bench.left_out }}
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
.bench-head .small {
  white-space: nowrap;
}
.load {
  margin-top: 0;
}
.limit {
  font-family: var(--ui);
}
.chips {
  display: flex;
  gap: 4px;
}
.held td {
  background: var(--sheet);
}
.cannot {
  color: var(--soft);
}
.level + .level::before {
  content: ", ";
}
</style>
