<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { Refused, useBarn, useCarryOut, usePreview, type Preview } from "../../api/client";
import { amount, size, span, terabytes } from "../../lib/format";
import BarnMap from "../../parts/BarnMap.vue";
import LedgerTable from "../../parts/LedgerTable.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import SumFigure from "../../parts/SumFigure.vue";
import PoolWish from "./PoolWish.vue";
import VolumeWish from "./VolumeWish.vue";

/** A change before it is one: the wish on top, what happens in order on the left, what it does to you on the right. */
const route = useRoute();
const router = useRouter();
const { data: barn } = useBarn();
const KINDS = ["form-pool", "create-volume", "rebuild"] as const;
const kind = computed(() => KINDS.find((k) => k === route.query.plan) ?? null);
const open = computed({ get: () => kind.value !== null, set: (on) => !on && close() });

const params = ref<Record<string, unknown>>({});
const settled = ref<Record<string, unknown>>({});
const chosen = ref(new Set<string>());
const fresh = ref<Preview | null>(null);
let timer: ReturnType<typeof setTimeout>;
watch(params, (now) => {
  clearTimeout(timer);
  timer = setTimeout(() => (settled.value = { ...now }), 200);
  fresh.value = null;
}, { deep: true });

const ready = computed(() => kind.value !== null && Object.keys(settled.value).length > 0);
const made = usePreview(() => kind.value ?? "rebuild", settled, ready);
const preview = computed(() => fresh.value ?? made.data.value ?? null);
const carryOut = useCarryOut();
const upToDate = computed(() => JSON.stringify(params.value) === JSON.stringify(settled.value) && !made.isFetching.value);
const blocked = computed(() => !preview.value || preview.value.blockers.length > 0 || !upToDate.value);
const touched = computed(() => Boolean(String(params.value.name ?? "").length) || chosen.value.size > 0 || kind.value === "rebuild");
const lit = computed(() => (kind.value === "form-pool" || !preview.value ? null : { ...preview.value.arriving, ...preview.value.leaving }));
const hasBefore = computed(() => (preview.value?.rows ?? []).some((r) => r.before));

watch(kind, (now) => {
  chosen.value = new Set();
  params.value = now === "rebuild" ? { pool: String(route.query.pool ?? "") } : {};
  settled.value = { ...params.value };
  carryOut.reset();
  fresh.value = null;
}, { immediate: true });

function close() {
  const query = { ...route.query };
  delete query.plan;
  delete query.pool;
  void router.replace({ query });
}
function toggle(name: string) {
  const next = new Set(chosen.value);
  if (!next.delete(name)) next.add(name);
  chosen.value = next;
}
function deed() {
  if (!kind.value || !preview.value || blocked.value) return;
  carryOut.mutate(
    { kind: kind.value, params: params.value, digest: preview.value.digest },
    {
      onSuccess: ({ number }) => router.push(`/changes/${number}`),
      onError: (error) => (fresh.value = error instanceof Refused ? (error.problem.preview ?? null) : null),
    },
  );
}
async function copyText() {
  const p = preview.value;
  if (!p) return;
  const lines = [p.title, p.summary, ...p.steps.map((s, i) => `${i + 1}. ${s.title}. ${s.detail}`), ...p.rows.map((r) => `${r.label}: ${r.before ? `${amount(r.before.value, r.before.unit)} → ` : ""}${r.after ? amount(r.after.value, r.after.unit) : ""}`), p.protection, ...p.warnings.map((w) => `Warning: ${w.sentence}`), ...p.blockers.map((b) => `Blocker: ${b.sentence}`)];
  await navigator.clipboard.writeText(lines.filter(Boolean).join("\n"));
}
</script>

<template>
  <VDialog v-model="open" class="plan" width="1180" max-width="calc(100% - 40px)" transition="none" scrollable>
    <section v-if="kind && barn" class="sheet" :aria-label="preview?.title ?? 'Preview'">
      <div class="body">
        <header>
          <h1>{{ preview?.title ?? "Preview" }}</h1>
          <span class="grow" /><button type="button" class="act" @click="copyText">Copy as text</button><button type="button" class="act" @click="close">Close</button>
        </header>
        <p class="summary">{{ preview?.summary ?? "Making the preview …" }} <span v-if="lit">On the map, striped hay leaves and striped blue arrives.</span></p>
        <PoolWish v-if="kind === 'form-pool'" v-model="params" v-model:chosen="chosen" :barn="barn" />
        <VolumeWish v-else-if="kind === 'create-volume'" v-model="params" :pools="barn.pools" />
        <BarnMap line :rooms="barn.rooms" :lit="lit" :chosen="kind === 'form-pool' ? chosen : null" :arriving="kind === 'form-pool' ? {} : (preview?.arriving ?? {})" :leaving="preview?.leaving ?? {}" @toggle="(d) => d.fit && toggle(d.name)" />
        <section v-if="preview?.ledgers.length" class="bytes" aria-label="Where each byte goes"><div class="sec"><h2>Where each byte goes</h2><span class="small">the bar shows the first row</span></div><LedgerTable :ledgers="preview.ledgers" /></section>
        <ProblemNote :error="carryOut.error.value ?? made.error.value" />
        <div v-if="preview" class="columns">
          <section aria-label="What happens, in order">
            <div class="sec"><h2>What happens, in order</h2></div>
            <ol>
              <li v-for="(step, i) in preview.steps" :key="step.name">
                <span class="no">{{ i + 1 }}</span><div><b>{{ step.title }}</b><p class="soft">{{ step.detail }}</p></div>
                <span class="t">{{ step.seconds ? `about ${span(step.seconds)}` : "" }}</span>
              </li>
            </ol>
            <p class="small">It can be called off at every step; what it has done is then put back, or stays where it is safe.</p>
          </section>
          <section aria-label="What it does to you">
            <div class="sec"><h2>What it does to you</h2></div>
            <template v-if="preview.blockers.length && touched">
              <p v-for="b in preview.blockers" :key="b.sentence" class="note" data-note="blocker"><StateMark lamp="failed" /><span><b>Blocker:</b> {{ b.sentence }} <span class="soft">{{ b.next_step }}</span></span></p>
            </template>
            <p v-else-if="preview.blockers.length" class="note soft"><StateMark lamp="away" /><span>{{ kind === "form-pool" ? "Give it a name and choose disks: by the buttons above, or on the map." : "Give it a name and a size." }}</span></p>
            <table v-if="preview.rows.length" class="eff">
              <thead><tr><th /><th v-if="hasBefore">Before</th><th>After</th></tr></thead>
              <tbody>
                <tr v-for="row in preview.rows" :key="row.label">
                  <td>{{ row.label }}</td><td v-if="hasBefore"><SumFigure v-if="row.before" :figure="row.before" /></td><td><SumFigure v-if="row.after" :figure="row.after" /></td>
                </tr>
              </tbody>
            </table>
            <p v-if="preview.moves_bytes" class="note"><StateMark lamp="sound" /><span><b>Data and time:</b> {{ size(preview.moves_bytes) }} to move, about {{ span(preview.seconds ?? 0) }} at the least, held up by {{ preview.bottleneck }}. An estimate: consumers' work makes it longer.</span></p>
            <p v-if="preview.protection" class="note"><StateMark lamp="sound" /><span><b>Protection:</b> {{ preview.protection }}</span></p>
            <p v-for="w in preview.warnings" :key="w.sentence" class="note" data-note="warning"><StateMark lamp="watch" /><span><b>Warning:</b> {{ w.sentence }} <span class="soft">{{ w.next_step }}</span></span></p>
            <p v-if="!preview.blockers.length" class="note"><StateMark lamp="sound" /><span><b>Blockers:</b> none.</span></p>
            <template v-if="preview.domains.length">
              <div class="sec"><h2>By {{ preview.domain_level }}</h2><span class="small">TB</span></div>
              <table class="eff">
                <thead><tr><th>{{ preview.domain_level }}</th><th>Room</th><th>{{ kind === "form-pool" ? "Usable for strips" : "Takes" }}</th><th>Stranded</th></tr></thead>
                <tbody><tr v-for="d in preview.domains" :key="d.name"><td>{{ d.name }}</td><td>{{ terabytes(d.room) }}</td><td>{{ terabytes(d.takes) }}</td><td>{{ d.stranded ? terabytes(d.stranded) : "" }}</td></tr></tbody>
              </table>
            </template>
          </section>
        </div>
      </div>
      <footer>
        <button type="button" class="btn" :disabled="blocked || carryOut.isPending.value" @click="deed">Carry out</button>
        <span class="small">Recorded for {{ barn.operator }}. Starts now.</span>
      </footer>
    </section>
  </VDialog>
</template>

<style>
.plan > .v-overlay__content { top: 46px !important; margin: 0 !important; max-height: calc(100vh - 96px) !important; align-self: start; }
.plan .v-overlay__scrim { background: var(--shade); opacity: 1; }
</style>
<style scoped>
.sheet { background: var(--sheet); color: var(--ink); display: flex; flex-direction: column; max-height: calc(100vh - 96px); clip-path: polygon(0 0, 100% 0, 100% calc(100% - 26px), calc(100% - 26px) 100%, 0 100%); box-shadow: var(--lift); }
.body { padding: 14px 24px 10px; overflow: auto; min-height: 0; }
header { display: flex; gap: 16px; align-items: baseline; }
h1 { font-size: 22px; font-weight: 700; letter-spacing: -0.015em; line-height: 1.2; }
.summary { color: var(--soft); padding-bottom: 8px; font-size: var(--t-s); }
.columns { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 26px; padding: 8px 0; }
li { display: grid; grid-template-columns: 22px 1fr 90px; gap: 6px; padding: 5px 0; border-top: 1px solid var(--rule); font-size: var(--t-s); }
li:first-child { border-top: 1.5px solid var(--ink); }
.no { font: 600 13px/18px var(--mono); color: var(--soft); }
li b { font-size: var(--t-m); font-weight: 640; }
.t { text-align: right; font-weight: 560; }
.eff { width: 100%; border-collapse: collapse; font-size: var(--t-s); }
.eff th { font-weight: 500; font-size: var(--t-xs); color: var(--soft); text-align: right; border-bottom: 1.5px solid var(--ink); padding: 0 0 3px 12px; }
.eff td { border-bottom: 1px solid var(--rule); padding: 3px 0 3px 12px; text-align: right; font-family: var(--mono); }
.eff th:first-child, .eff td:first-child { text-align: left; padding-left: 0; font-family: var(--ui); }
.bytes { padding-top: 8px; }
.note { display: grid; grid-template-columns: 18px 1fr; font-size: var(--t-s); line-height: 1.38; padding: 4px 0; }
.note :deep(.state) { align-items: start; padding-top: 3px; }
footer { display: flex; align-items: center; gap: 14px; padding: 10px 44px 10px 24px; background: var(--well); border-top: 1.5px solid var(--ink); }
</style>
