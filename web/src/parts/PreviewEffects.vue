<script setup lang="ts">
import { computed } from "vue";
import type { Preview } from "../api/client";
import { size, span, terabytes } from "../lib/format";
import { natural } from "../lib/natural";
import RoleTable from "./RoleTable.vue";
import LevelTable from "./LevelTable.vue";
import StateMark from "./StateMark.vue";
import SumFigure from "./SumFigure.vue";

/** What a change does, in order, and what it does to you. waiting: said instead of blockers while nothing has been filled in yet. */
const props = defineProps<{ preview: Preview; waiting?: string }>();
const hasBefore = computed(() => props.preview.rows.some((r) => r.before));
const heads = computed(() => {
  switch (props.preview.kind) {
    case "form-cluster":
      return ["Room to run", "Storage needs", "Left for other work"];
    case "describe":
      return ["Differs", "Machines say", "Text says"];
    default:
      return ["", "Before", "After"];
  }
});
const pools = computed(() => [...new Set(props.preview.capacity.map((c) => c.pool))]);
const MOST_DOMAINS = 8;
const busiest = (key: "source" | "target") => {
  const sums = new Map<string, number>();
  for (const f of props.preview.flows) sums.set(f[key], (sums.get(f[key]) ?? 0) + f.bytes);
  return [...sums].sort((a, b) => b[1] - a[1]).slice(0, MOST_DOMAINS).map(([name]) => name).sort(natural);
};
const sources = computed(() => busiest("source"));
const targets = computed(() => busiest("target"));
const flow = (s: string, t: string) => {
  const bytes = props.preview.flows.filter((f) => f.source === s && f.target === t).reduce((sum, f) => sum + f.bytes, 0);
  return bytes ? (bytes < 5e9 ? size(bytes) : terabytes(bytes)) : "";
};
const LAMP = { pass: "sound", doubt: "watch", fail: "failed" } as const;
/** Steps of many nodes are told once. */
const steps = computed(() => {
  const found: { name: string; title: string; detail: string; seconds: number | null; count: number; can_withdraw: boolean }[] = [];
  for (const step of props.preview.steps) {
    const [kind, subject] = step.name.split(":");
    const last = found.at(-1);
    if (subject && last && last.name === kind) {
      last.count += 1;
      last.title = `${last.title.replace(/ \+ \d+ more$/, "")} + ${last.count - 1} more`;
      last.detail = kind === "join" ? "Keepers with a vote, the others without." : last.detail;
    } else found.push({ ...step, name: kind!, seconds: step.seconds ?? null, count: 1 });
  }
  return found;
});
const doubted = computed(() => new Set(props.preview.checks.filter((c) => c.result !== "pass").map((c) => c.sentence)));
const blockers = computed(() => props.preview.blockers.filter((b) => !doubted.value.has(b.sentence)));
const warnings = computed(() => props.preview.warnings.filter((w) => !doubted.value.has(w.sentence)));
const order = { fail: 0, doubt: 1, pass: 2 } as const;
const checks = computed(() => [...props.preview.checks].sort((a, b) => order[a.result] - order[b.result]));
</script>

<template>
  <div class="columns">
    <section aria-label="What happens, in order">
      <div class="sec"><h2>What happens, in order</h2></div>
      <ol>
        <li v-for="(step, i) in steps" :key="step.name + i" :class="{ noreturn: !step.can_withdraw && (i === 0 || steps[i - 1]!.can_withdraw) }">
          <span class="no">{{ i + 1 }}</span><div><b>{{ step.title }}</b><p class="soft">{{ step.detail }}</p></div>
          <span class="t">{{ step.seconds ? `about ${span(step.seconds)}` : "" }}</span>
        </li>
      </ol>
      <p class="small">{{ preview.steps.some((s) => !s.can_withdraw) ? "It can be called off until the red line; after it there is no way back." : "It can be called off at every step; what it has done is then put back, or stays where it is safe." }}</p>
    </section>
    <section aria-label="What it does to you">
      <div class="sec"><h2>What it does to you</h2></div>
      <p v-if="waiting" class="note soft"><StateMark lamp="away" /><span>{{ waiting }}</span></p>
      <template v-else>
        <p v-for="b in blockers" :key="b.sentence" class="note" data-note="blocker"><StateMark lamp="failed" /><span><b>Blocker:</b> {{ b.sentence }} <span class="soft">{{ b.next_step }}</span></span></p>
      </template>
      <table v-if="preview.rows.length" class="eff">
        <thead><tr><th /><th v-if="hasBefore">Before</th><th>After</th></tr></thead>
        <tbody>
          <tr v-for="row in preview.rows" :key="row.label">
            <td>{{ row.label }}</td><td v-if="hasBefore"><SumFigure v-if="row.before" :figure="row.before" /></td><td><SumFigure v-if="row.after" :figure="row.after" /></td>
          </tr>
        </tbody>
      </table>
      <template v-if="checks.length">
        <p v-for="c in checks" :key="c.name + c.sentence" class="note" :data-check="c.result"><StateMark :lamp="LAMP[c.result]" /><span><b>{{ c.name[0]!.toUpperCase() }}{{ c.name.slice(1) }}:</b> {{ c.sentence }} <span class="soft">{{ c.cure }}</span></span></p>
      </template>
      <template v-if="preview.losses.length">
        <div class="sec"><h2>If this is lost</h2><span class="small">votes</span></div>
        <table class="eff words">
          <thead><tr><th /><th>Votes lost</th><th>Left</th><th>The rest</th></tr></thead>
          <tbody><tr v-for="l in preview.losses" :key="l.what"><td>{{ l.what }}</td><td>{{ l.votes_lost }}</td><td>{{ l.votes_left }}</td><td><StateMark :lamp="l.decides ? 'sound' : 'failed'" /> {{ l.decides ? "decides" : "decides nothing" }}</td></tr></tbody>
        </table>
      </template>
      <LevelTable v-if="preview.levels_after.length" :before="preview.levels_before" :after="preview.levels_after" />
      <table v-if="preview.texts.length" class="eff words">
        <thead><tr><th v-for="h in heads" :key="h">{{ h }}</th></tr></thead>
        <tbody><tr v-for="t in preview.texts.slice(0, 60)" :key="t.label + t.before"><td>{{ t.label }}</td><td>{{ t.before }}</td><td>{{ t.after }}</td></tr></tbody>
      </table>
      <p v-if="preview.texts.length > 60" class="small">and {{ preview.texts.length - 60 }} more.</p>
      <RoleTable v-if="preview.roles.length && preview.kind !== 'form-pool'" :roles="preview.roles" />
      <p v-for="e in preview.endurance" :key="e" class="note"><StateMark lamp="sound" /><span>{{ e }}</span></p>
      <template v-if="preview.capacity.length">
        <div class="sec"><h2>Capacity at every step</h2><span class="small">TB</span></div>
        <table class="eff" aria-label="Capacity at every step">
          <thead><tr><th>{{ pools.length > 1 ? "Pool, and when" : "When" }}</th><th>Raw</th><th>Usable</th><th>Free</th></tr></thead>
          <tbody><tr v-for="c in preview.capacity" :key="c.pool + c.after"><td>{{ pools.length > 1 ? `${c.pool}, ` : "" }}{{ c.after }}</td><td>{{ terabytes(c.raw) }}</td><td>{{ terabytes(c.usable) }}</td><td>{{ terabytes(c.free) }}</td></tr></tbody>
        </table>
      </template>
      <template v-if="preview.flows.length">
        <div class="sec"><h2>What moves between {{ preview.domain_level }}s</h2><span class="small">TB, from row to column</span></div>
        <table class="eff" aria-label="What moves between domains">
          <thead><tr><th>from</th><th v-for="t in targets" :key="t">to {{ t }}</th></tr></thead>
          <tbody><tr v-for="s in sources" :key="s"><td>{{ s || "nowhere" }}</td><td v-for="t in targets" :key="t">{{ flow(s, t) }}</td></tr></tbody>
        </table>
      </template>
      <p v-if="preview.moves_bytes" class="note"><StateMark lamp="sound" /><span><b>Data and time:</b> {{ size(preview.moves_bytes) }} to move, about {{ span(preview.seconds ?? 0) }} at the least, held up by {{ preview.bottleneck }}. An estimate: consumers' work makes it longer.</span></p>
      <p v-if="preview.protection" class="note"><StateMark lamp="sound" /><span><b>{{ preview.kind === "form-cluster" ? "Votes" : "Protection" }}:</b> {{ preview.protection }}</span></p>
      <p v-for="w in warnings" :key="w.sentence" class="note" data-note="warning"><StateMark lamp="watch" /><span><b>Warning:</b> {{ w.sentence }} <span class="soft">{{ w.next_step }}</span></span></p>
      <p v-if="!preview.blockers.length" class="note"><StateMark lamp="sound" /><span><b>Blockers:</b> none.</span></p>
      <template v-if="preview.domains.length">
        <div class="sec"><h2>By {{ preview.domain_level }}</h2><span class="small">TB</span></div>
        <table class="eff">
          <thead><tr><th>{{ preview.domain_level }}</th><th>Room</th><th>{{ preview.kind === "form-pool" ? "Usable for strips" : "Takes" }}</th><th>Stranded</th></tr></thead>
          <tbody><tr v-for="d in preview.domains" :key="d.name"><td>{{ d.name }}</td><td>{{ terabytes(d.room) }}</td><td>{{ terabytes(d.takes) }}</td><td>{{ d.stranded ? terabytes(d.stranded) : "" }}</td></tr></tbody>
        </table>
      </template>
    </section>
  </div>
</template>

<style scoped>
.columns { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1.15fr); gap: 26px; padding: 8px 0; }
li { display: grid; grid-template-columns: 22px 1fr 90px; gap: 6px; padding: 5px 0; border-top: 1px solid var(--rule); font-size: var(--t-s); }
li:first-child { border-top: 1.5px solid var(--ink); }
li.noreturn { border-top: 2px solid var(--barn); }
.no { font: 600 13px/18px var(--mono); color: var(--soft); }
li b { font-size: var(--t-m); font-weight: 640; }
.t { text-align: right; font-weight: 560; }
.eff { width: 100%; border-collapse: collapse; font-size: var(--t-s); margin: 2px 0 6px; }
.eff th { font-weight: 500; font-size: var(--t-xs); color: var(--soft); text-align: right; border-bottom: 1.5px solid var(--ink); padding: 0 0 3px 12px; }
.eff td { border-bottom: 1px solid var(--rule); padding: 3px 0 3px 12px; text-align: right; font-family: var(--mono); }
.eff.words td { font-family: var(--ui); }
.eff th:first-child, .eff td:first-child { text-align: left; padding-left: 0; font-family: var(--ui); }
.note { display: grid; grid-template-columns: 18px 1fr; font-size: var(--t-s); line-height: 1.38; padding: 4px 0; }
.note :deep(.state) { align-items: start; padding-top: 3px; }
</style>
