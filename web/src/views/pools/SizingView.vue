<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import {
  readSitePlan,
  readSizingCsv,
  useSizing,
  writePlanAsText,
  type Repair,
  type SizingVariant,
} from "../../api/client";
import { keepAsFile } from "../../lib/files";
import { percent, span, tebibytes, terabytes } from "../../lib/format";
import { packed, unpacked } from "../../lib/sizing";
import LedgerTable from "../../parts/LedgerTable.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import UsableTable from "../../parts/UsableTable.vue";
import SchemeBench from "../policies/SchemeBench.vue";
import PoolTabs from "./PoolTabs.vue";

/**
 * Machines on paper, up to three plans side by side. The address carries them whole, so a comparison can be
 * sent to someone.
 */
const SETTLE = 400;
const MOST = 3;
const LONGEST = 12_000; // characters that every server and browser takes in an address
const tooLong = ref(false);
const route = useRoute();
const router = useRouter();
const USUAL: SizingVariant = {
  name: "Plan A",
  text: "",
  copies: 3,
  level: "rack",
  headroom: "node",
  headroom_losses: 1,
  extent_bytes: 2 ** 30,
  serves: "cache",
  fill: 0.85,
  failure_rate: null,
  rebuild_rate: 0,
  daily_writes: 0,
  grace_seconds: 30,
  replace_seconds: 172_800,
};
const COPIES = [1, 2, 3, 4, 5].map((n) => ({ title: n === 1 ? "1 copy" : `${n} copies`, value: n }));
const SPREADS = (["room", "rack", "node", "disk"] as const).map((l) => ({
  title: `each in another ${l}`,
  value: l,
}));
const HELD_BACK = [
  { title: "nothing held back", value: null },
  ...(["disk", "node", "rack"] as const).map((l) => ({ title: `heals from losing a ${l}`, value: l })),
];
const LOSSES = ["once", "2 in turn", "3 in turn"].map((title, i) => ({ title, value: i + 1 }));
const SERVES = [
  { title: "fastest is cache", value: "cache" },
  { title: "fastest is a fast tier", value: "fast tier" },
  { title: "all is capacity", value: "capacity" },
];
const EXAMPLE =
  "room North Quay\n" +
  "rack NQ-1\n  heron-{1..2}: 8 x 3.84 TB SSD, 2 x 1.92 TB NVMe, 2 x 25 Gb/s\n" +
  "rack NQ-2\n  heron-{3..4}: 8 x 3.84 TB SSD, 2 x 1.92 TB NVMe, 2 x 25 Gb/s\n" +
  "room South Quay\n" +
  "rack SQ-1\n  heron-{5..6}: 8 x 3.84 TB SSD, 2 x 1.92 TB NVMe, 2 x 25 Gb/s\n";
const variants = ref<SizingVariant[]>(
  unpacked(String(route.query.plans ?? ""), USUAL) ?? [{ ...USUAL, text: EXAMPLE }],
);
const settled = ref<SizingVariant[]>(variants.value.map((v) => ({ ...v })));
const failure = ref<unknown>(null);
let timer: ReturnType<typeof setTimeout>;
watch(
  variants,
  (now) => {
    clearTimeout(timer);
    timer = setTimeout(() => {
      settled.value = now.map((v) => ({ ...v }));
      const plans = packed(now, USUAL);
      tooLong.value = plans.length > LONGEST;
      void router.replace({ query: tooLong.value ? {} : { ...route.query, plans } });
    }, SETTLE);
  },
  { deep: true },
);
const ready = computed(() => settled.value.some((v) => v.text.trim()));
const { data: found, error, isFetching } = useSizing(settled, ready);
const results = computed(() =>
  settled.value.map((v, i) => (v.text.trim() ? found.value?.variants[i] : undefined)),
);
const best = computed(() => Math.max(...results.value.map((r) => r?.usable ?? 0)));
/** The plan, counted from 0, on whose machines schemes are laid side by side. It stands in the address. */
const laid = computed(() => (route.query.schemes === undefined ? null : Number(route.query.schemes) || 0));
const lay = (i: number) => void router.replace({ query: { ...route.query, schemes: String(i) } });
const letter = (n: number) => `Plan ${"ABC"[n]}`;
function add() {
  const last = variants.value.at(-1)!;
  variants.value.push({ ...last, name: letter(variants.value.length) });
}
const remove = (i: number) => variants.value.splice(i, 1);
async function attempt(deed: () => Promise<void>) {
  failure.value = null;
  try {
    await deed();
  } catch (problem) {
    failure.value = problem;
  }
}
const takeSite = (i: number) =>
  attempt(async () => void (variants.value[i]!.text = (await readSitePlan()).text));
const saveCsv = () =>
  attempt(async () =>
    keepAsFile("sizing.csv", await readSizingCsv(settled.value.filter((v) => v.text.trim())), "text/csv"),
  );
const saveText = (i: number) =>
  attempt(async () =>
    keepAsFile("site.yaml", (await writePlanAsText(variants.value[i]!.text)).text, "application/yaml"),
  );
/** How long a lost disk or node stays short, and of what that time is made. */
function repaired(repair: Repair | null, what: string): string {
  if (!repair)
    return what === "disk" ? "Nothing is written again: there is nothing, or no copy to write it from." : "";
  const waits = [`${span(repair.noticing + repair.grace)} to notice and wait`];
  if (repair.replacing)
    waits.push(`${span(repair.replacing)} for a replacement, as the rest has no room for it`);
  waits.push(`at least ${span(repair.copying)} to copy, held up by ${repair.bottleneck || "nothing"}`);
  return `${what === "disk" ? "A disk" : "A node"}: about ${span(repair.seconds)} (${waits.join(", ")}).`;
}
const typed = (event: Event) => Number((event.target as HTMLInputElement).value);
const afr = (v: SizingVariant) => (v.failure_rate ? String(+(v.failure_rate * 100).toFixed(2)) : "");
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Sizing bench</h1>
      <PoolTabs />
      <p>What machines on paper would hold, heal and survive.</p>
      <span class="grow" />
      <span class="small" role="status">{{ isFetching ? "Working it out …" : "" }}</span>
      <VBtn class="act" :disabled="!ready" @click="saveCsv"> Save the comparison as CSV </VBtn>
      <VBtn v-if="variants.length < MOST" class="btn" @click="add">Add a variant</VBtn>
    </div>
    <ProblemNote :error="failure ?? error" />
    <div class="bench" :style="{ gridTemplateColumns: `repeat(${variants.length}, minmax(0, 1fr))` }">
      <section v-for="(v, i) in variants" :key="i" :aria-label="v.name" :data-variant="i">
        <div class="sec">
          <VTextField
            v-model="v.name"
            class="title"
            width="190"
            maxlength="80"
            :aria-label="`Name of variant ${i + 1}`"
          />
          <span class="grow" />
          <VBtn class="act" @click="takeSite(i)">From this site</VBtn>
          <VBtn class="act" @click="saveText(i)">Save as text</VBtn>
          <VBtn v-if="variants.length > 1" class="act" @click="remove(i)">Remove</VBtn>
        </div>
        <VTextarea
          v-model="v.text"
          class="machines"
          spellcheck="false"
          :rows="variants.length === 1 ? 8 : 9"
          :aria-label="`Machines of ${v.name}`"
          placeholder="rack NQ-1&#10;  heron-{1..4}: 8 x 3.84 TB SSD, 2 x 1.92 TB NVMe, 2 x 25 Gb/s"
        />
        <div class="set">
          <VSelect v-model="v.copies" :items="COPIES" :aria-label="`Copies in ${v.name}`" width="100" />
          <VSelect v-model="v.level" :items="SPREADS" :aria-label="`Spread in ${v.name}`" width="170" />
          <VSelect
            v-model="v.headroom"
            :items="HELD_BACK"
            :aria-label="`Held back in ${v.name}`"
            width="190"
          />
          <VSelect
            v-model="v.headroom_losses"
            :items="LOSSES"
            :aria-label="`Losses in ${v.name}`"
            :disabled="!v.headroom"
            width="100"
          />
          <VSelect
            v-model="v.serves"
            :items="SERVES"
            :aria-label="`Fastest class in ${v.name}`"
            width="176"
          />
          <VTextField
            :model-value="afr(v)"
            inputmode="decimal"
            placeholder="usual"
            label="Fail a year, %"
            width="90"
            @change="v.failure_rate = typed($event) / 100 || null"
          />
          <VTextField
            :model-value="v.grace_seconds"
            inputmode="numeric"
            label="Grace, s"
            width="70"
            @change="v.grace_seconds = Math.max(1, typed($event) || USUAL.grace_seconds)"
          />
          <VTextField
            :model-value="v.replace_seconds / 3600"
            inputmode="decimal"
            label="Replaced within, h"
            width="110"
            @change="v.replace_seconds = Math.max(0, typed($event) * 3600 || 0)"
          />
          <VTextField
            :model-value="v.rebuild_rate ? v.rebuild_rate / 1e6 : ''"
            inputmode="numeric"
            placeholder="no limit"
            label="Rebuild, MB/s"
            width="96"
            @change="v.rebuild_rate = Math.round(typed($event) * 1e6) || 0"
          />
        </div>
        <p v-if="results[i]?.problem" class="problem" role="alert">
          <StateMark lamp="failed" />
          <span
            >{{ results[i]!.problem }} <span class="soft">{{ results[i]!.next_step }}</span></span
          >
        </p>
        <div v-else-if="results[i]?.ledger" :class="{ alone: variants.length === 1 }">
          <dl>
            <dt>Usable</dt>
            <dd class="big">
              <b>{{ terabytes(results[i]!.usable) }} TB</b>
              <span class="soft binary">{{ tebibytes(results[i]!.usable) }} TiB</span
              ><span v-if="variants.length > 1 && results[i]!.usable === best" class="most">the most</span>
            </dd>
            <dt>Of raw</dt>
            <dd>
              {{ terabytes(results[i]!.raw) }} TB on {{ results[i]!.nodes }} nodes,
              {{ results[i]!.disks }} disks: {{ percent(results[i]!.usable / results[i]!.raw) }}. With nothing
              held back {{ terabytes(results[i]!.without_headroom) }} TB.
            </dd>
            <dt>Survives</dt>
            <dd>{{ results[i]!.protection[0]!.toUpperCase() }}{{ results[i]!.protection.slice(1) }}.</dd>
            <dt>Heals</dt>
            <dd>{{ results[i]!.healing }}</dd>
            <dt>Whole again</dt>
            <dd>
              {{ repaired(results[i]!.repair_disk, "disk") }} {{ repaired(results[i]!.repair_node, "node") }}
            </dd>
            <dt>Loss a year</dt>
            <dd>
              <b>{{ results[i]!.chance }}</b>. <span class="soft">{{ results[i]!.chance_inputs }}</span>
            </dd>
            <dt>Raised most by</dt>
            <dd>
              <template v-for="best in results[i]!.additions.slice(0, 1)" :key="best.what">
                {{ best.what }}: {{ terabytes(best.gain_bytes) }} TB more.</template
              >
              <template v-if="!results[i]!.additions.length"
                >nothing alike that is one disk or node.</template
              >
            </dd>
            <template v-for="c in results[i]!.concerns" :key="c"
              ><dt>Concern</dt>
              <dd><StateMark lamp="watch" /> {{ c }}</dd></template
            >
          </dl>
          <div v-if="variants.length === 1" class="ledger">
            <LedgerTable :ledgers="[results[i]!.ledger!]" />
          </div>
          <UsableTable :rows="results[i]!.protections" :few="variants.length > 1" />
        </div>
      </section>
    </div>
    <template v-if="ready && !tooLong">
      <div v-if="laid === null" class="sec">
        <VBtn class="act" @click="lay(0)">Lay schemes side by side on these machines</VBtn>
      </div>
      <template v-else>
        <div v-if="variants.length > 1" class="sec chips" role="group" aria-label="Schemes of">
          <VBtn v-for="(v, i) in variants" :key="i" class="chip" :aria-pressed="i === laid" @click="lay(i)">{{
            v.name
          }}</VBtn>
        </div>
        <SchemeBench :plan="settled[laid] ?? settled[0]" />
      </template>
    </template>
    <p v-if="tooLong" class="small">
      <StateMark lamp="watch" /> These plans are too long for an address: leaving this page loses them. Save
      what you want to keep.
    </p>
    <p v-if="found" class="small foot">Estimates. {{ found.left_out }}</p>
  </main>
</template>

<style scoped>
.bench {
  display: grid;
  gap: 26px;
}
.title :deep(input) {
  font: 680 var(--t-l)/1.2 var(--ui);
}
.title :deep(.v-field) {
  --v-field-padding-start: 0px;
}
.title :deep(.v-field:not(.v-field--focused, :hover)) {
  box-shadow: none;
  background: none;
}
.machines :deep(textarea) {
  font: 430 var(--t-s)/1.45 var(--mono);
}
.set {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 4px 6px;
  padding: 4px 0 6px;
}
dl {
  display: grid;
  grid-template-columns: 96px 1fr;
  border-top: 1.5px solid var(--ink);
  font-size: var(--t-s);
}
dt,
dd {
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
}
dt {
  color: var(--soft);
}
.big b {
  font-size: var(--t-l);
}
.most {
  margin-left: 10px;
  border: 1px solid var(--edge);
  border-radius: 2px;
  padding: 0 5px;
  font-size: var(--t-xs);
}
.alone {
  display: grid;
  grid-template-columns: minmax(0, 1.2fr) minmax(0, 1fr);
  gap: 6px 26px;
  align-items: start;
}
.alone .ledger {
  grid-row: 2;
  grid-column: 1 / -1;
}
.foot {
  padding-top: 10px;
}
.binary {
  margin-left: 8px;
}
</style>
