<script setup lang="ts">
import { computed, defineAsyncComponent, ref, useTemplateRef, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn } from "../../api/client";
import { ASKED, asking, kindOf, offer, type Wish } from "../../kinds/kind";
import { everyEffect } from "../../lib/effects";
import { amount } from "../../lib/format";
import { usePlan } from "../../lib/plan";
import BarnMap from "../../parts/BarnMap.vue";
import LedgerTable from "../../parts/LedgerTable.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import PreviewEffects from "../../parts/PreviewEffects.vue";

/**
 * A change before it is one: the wish on top, what happens in order on the left, what it does to you on the
 * right.
 */
const route = useRoute();
const router = useRouter();
const { data: barn } = useBarn();
const name = computed(() => (typeof route.query.plan === "string" ? route.query.plan : ""));
const kind = computed(() => {
  const found = kindOf(name.value);
  return found?.elsewhere ? undefined : found;
});
const open = computed({ get: () => kind.value !== undefined, set: (on) => !on && close() });
const fields = computed(() => kind.value?.fields && defineAsyncComponent(kind.value.fields));
const given = computed(() => typeof route.query["with-params"] === "string");

const params = ref<Wish>({});
const chosen = ref(new Set<string>());
const wished = () => Object.keys(params.value).length > 0;
const { preview, begun, blocked, carryOut, error } = usePlan(
  name,
  params,
  () => kind.value !== undefined && wished(),
  // Before its fields have said anything there is no wish to ask.
  () => wished() && (kind.value?.begun?.(params.value) ?? true),
);
const below = useTemplateRef<HTMLElement>("below");
offer({ barn, preview, chosen, below });
const wants = computed(() => {
  const said = kind.value?.wants;
  return typeof said === "function" ? barn.value && said(barn.value) : said;
});
const choosing = computed(() => kind.value?.map === "choose");
const onDisks = computed(() => everyEffect(preview.value, "on-disks"));
const arriving = computed(
  () => Object.assign({}, ...onDisks.value.map((e) => e.arriving)) as Record<string, number>,
);
const leaving = computed(
  () => Object.assign({}, ...onDisks.value.map((e) => e.leaving)) as Record<string, number>,
);
const ledgers = computed(() => everyEffect(preview.value, "ledgers").flatMap((e) => e.ledgers));
const lit = computed(() =>
  choosing.value || !preview.value ? null : { ...arriving.value, ...leaving.value },
);

watch(
  name,
  () => {
    chosen.value = new Set();
    params.value = given.value ? whole() : (kind.value?.start?.(asking(route.query)) ?? {});
  },
  { immediate: true },
);

/** Parameters that the address carries whole, as the way back of a change does. */
function whole(): Wish {
  try {
    return JSON.parse(String(route.query["with-params"])) as Wish;
  } catch {
    return {};
  }
}
function close() {
  void router.replace({
    query: Object.fromEntries(Object.entries(route.query).filter(([name]) => !ASKED.includes(name))),
  });
}
function toggle(name: string) {
  const next = new Set(chosen.value);
  if (!next.delete(name)) next.add(name);
  chosen.value = next;
}
async function copyText() {
  const p = preview.value;
  if (!p) return;
  const lines = [
    p.title,
    p.summary,
    ...p.steps.map((s, i) => `${i + 1}. ${s.title}. ${s.detail}`),
    ...everyEffect(p, "sums")
      .flatMap((e) => e.rows)
      .map((r) => {
        const known = [r.before, r.after].flatMap((figure) =>
          figure ? [amount(figure.value, figure.unit)] : [],
        );
        return `${r.label}: ${known.join(" → ")}`;
      }),
    ...everyEffect(p, "promise").map((e) => `${e.title}: ${e.sentence}`),
    ...p.warnings.map((w) => `Warning: ${w.sentence}`),
    ...p.blockers.map((b) => `Blocker: ${b.sentence}`),
  ];
  await navigator.clipboard.writeText(lines.filter(Boolean).join("\n"));
}
</script>

<template>
  <VDialog
    v-model="open"
    class="plan"
    :aria-label="preview?.title ?? 'Preview'"
    width="1180"
    max-width="calc(100% - 40px)"
    transition="none"
    scrollable
  >
    <section v-if="kind && barn" class="sheet">
      <div class="body">
        <header>
          <h1>{{ preview?.title ?? "Preview" }}</h1>
          <span class="grow" /><VBtn class="act" @click="copyText">Copy as text</VBtn
          ><VBtn class="act" @click="close">Close</VBtn>
        </header>
        <p class="summary" :class="{ choosing }">
          {{ preview ? `${preview.summary} Nothing has been changed yet.` : "Making the preview …" }}
          <span v-if="lit && kind.map">On the map, striped hay leaves and striped blue arrives.</span>
        </p>
        <form v-if="fields && !given" class="fields" @submit.prevent>
          <component :is="fields" :key="name" v-model="params" />
        </form>
        <BarnMap
          v-if="kind.map"
          line
          :rooms="barn.rooms"
          :lit="lit"
          :chosen="choosing ? chosen : null"
          :arriving="choosing ? {} : arriving"
          :leaving="leaving"
          @toggle="(d) => d.fit && toggle(d.name)"
        />
        <div ref="below" />
        <section v-if="ledgers.length" class="bytes" aria-label="Where each byte goes">
          <div class="sec">
            <h2>Where each byte goes</h2>
            <span class="small">the bar shows the first row</span>
          </div>
          <LedgerTable :ledgers="ledgers" />
        </section>
        <ProblemNote :error="error" />
        <PreviewEffects
          v-if="preview"
          :preview="preview"
          :waiting="preview.blockers.length && !begun ? wants : undefined"
          :without="kind.shows"
        />
      </div>
      <footer>
        <VBtn class="btn" :disabled="blocked" @click="carryOut">Carry out</VBtn>
        <span class="small">Recorded for {{ barn.operator }}. Starts now.</span>
      </footer>
    </section>
  </VDialog>
</template>

<style>
.plan > .v-overlay__content {
  top: 46px !important;
  margin: 0 !important;
  max-height: calc(100vh - 96px) !important;
  align-self: start;
}
/* It has the focus until something in it has: where that is needs no line around the whole sheet. */
.plan:focus-visible,
.plan > .v-overlay__content:focus-visible {
  outline: none;
}
.plan .v-overlay__scrim {
  background: var(--shade);
  opacity: 1;
}
</style>
<style scoped>
.sheet {
  background: var(--sheet);
  color: var(--ink);
  display: flex;
  flex-direction: column;
  max-height: calc(100vh - 96px);
  clip-path: polygon(0 0, 100% 0, 100% calc(100% - 26px), calc(100% - 26px) 100%, 0 100%);
  box-shadow: var(--lift);
}
.body {
  padding: 14px 24px 10px;
  overflow: auto;
  min-height: 0;
}
header {
  display: flex;
  gap: 16px;
  align-items: baseline;
}
h1 {
  font-size: 22px;
  font-weight: 700;
  letter-spacing: -0.015em;
  line-height: 1.2;
}
.fields {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 8px 14px;
  padding-bottom: 8px;
}
.summary {
  color: var(--soft);
  padding-bottom: 8px;
  font-size: var(--t-s);
}
/* Where disks are chosen on the map, no sentence that grows moves it under the pointer. */
.summary.choosing {
  min-height: calc(2lh + 8px);
}
.bytes {
  padding-top: 8px;
}
footer {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 10px 44px 10px 24px;
  background: var(--well);
  border-top: 1.5px solid var(--ink);
}
</style>
