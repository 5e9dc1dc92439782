<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn, useBench, usePaperBench, type BenchAsked, type SizingVariant } from "../../api/client";
import { useChoices } from "../../kinds/choices";
import { percent, span } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import SchemeTable from "./SchemeTable.vue";

/**
 * Schemes side by side on the disks of a pool, or of machines on paper. Which pool and which level stand in
 * the address.
 */
const props = defineProps<{ plan?: SizingVariant }>();
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
const real = useBench(() => ({ ...asked.value, pool: props.plan ? "" : pool.value }));
const paper = usePaperBench(
  () => props.plan,
  () => ({
    level: asked.value.level,
    load: asked.value.load,
    reads: asked.value.reads,
    block: asked.value.block,
  }),
);
const found = computed(() => (props.plan ? paper : real));
const bench = computed(() => found.value.data.value);
const error = computed(() => found.value.error.value);
const csv = computed(() => {
  const words = Object.entries(asked.value).flatMap(([name, value]) =>
    (Array.isArray(value) ? value : [value]).filter((v) => v !== undefined).map((v) => [name, String(v)]),
  );
  return `/api/bench/csv?${new URLSearchParams(words)}`;
});
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
const waits = computed(() =>
  Math.max(0, ...rows.value.flatMap((r) => [r.repair_disk?.waits ?? 0, r.repair_node?.waits ?? 0])),
);
</script>

<template>
  <section v-if="plan || barn?.pools.length" aria-label="Schemes side by side">
    <div class="sec bench-head">
      <h2>Schemes side by side</h2>
      <span v-if="plan" class="small">on the machines of {{ plan.name }},</span>
      <span v-else class="small">on the disks of</span>
      <VSelect
        v-if="!plan && barn"
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
      <a v-if="!plan" class="act small" :href="csv" download>As CSV</a>
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
    <SchemeTable v-if="bench" :rows="rows" :show="show" :pins="pins" :pinnable="!plan" @pin="pin" />
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
.bench-head .small {
  white-space: nowrap;
}
.load {
  margin-top: 0;
}
.chips {
  display: flex;
  gap: 4px;
}
</style>
