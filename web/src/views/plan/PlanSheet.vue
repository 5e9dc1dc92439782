<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn } from "../../api/client";
import { everyEffect } from "../../lib/effects";
import { amount } from "../../lib/format";
import { natural } from "../../lib/natural";
import { usePlan } from "../../lib/plan";
import BarnMap from "../../parts/BarnMap.vue";
import LedgerTable from "../../parts/LedgerTable.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import PreviewEffects from "../../parts/PreviewEffects.vue";
import DiskChooser from "./DiskChooser.vue";
import GroundWish from "./GroundWish.vue";
import LeaveWish from "./LeaveWish.vue";
import SettingsWish from "./SettingsWish.vue";
import PoolWish from "./PoolWish.vue";
import VolumeWish from "./VolumeWish.vue";

/** A change before it is one: the wish on top, what happens in order on the left, what it does to you on the right. */
const route = useRoute();
const router = useRouter();
const { data: barn } = useBarn();
const GROUND = [
  "clear-disk",
  "delete-volume",
  "delete-pool",
  "rename",
  "address-ports",
  "purpose-ports",
  "add-node",
  "let-go",
] as const;
const LEAVING = ["retire", "replace-disk", "change-role"] as const;
const KINDS = [
  "form-pool",
  "grow-pool",
  "create-volume",
  "rebuild",
  "set-pool",
  ...LEAVING,
  ...GROUND,
  "arrange",
  "give-up",
] as const;
const leaving = computed(() => LEAVING.some((k) => k === kind.value));
const ground = computed(() => GROUND.some((k) => k === kind.value));
const ASKED = ["plan", "pool", "volume", "disk", "node", "nodes", "port", "rack", "with-params"];
const kind = computed(() => KINDS.find((k) => k === route.query.plan) ?? null);
const open = computed({ get: () => kind.value !== null, set: (on) => !on && close() });

const params = ref<Record<string, unknown>>({});
const chosen = ref(new Set<string>());
const wished = computed(() => kind.value ?? "rebuild");
const { preview, blocked, carryOut, error } = usePlan(
  wished,
  params,
  () => kind.value !== null && Object.keys(params.value).length > 0,
);
watch(chosen, (now) => {
  if (kind.value === "grow-pool")
    params.value = { pool: String(route.query.pool ?? ""), disks: [...now].sort(natural) };
});
const hasMap = computed(() => !ground.value && kind.value !== "arrange" && kind.value !== "set-pool");
const touched = computed(
  () =>
    Boolean(
      params.value.name ||
      params.value.typed ||
      params.value.pattern ||
      params.value.start ||
      params.value.by ||
      params.value.reason ||
      (params.value.names as string[] | undefined)?.some(Boolean),
    ) ||
    chosen.value.size > 0 ||
    ["rebuild", "add-node", "let-go", "arrange", "purpose-ports", "set-pool", "give-up"].includes(
      kind.value ?? "",
    ),
);
const WAITING: Record<string, string> = {
  "form-pool": "Give it a name and choose disks: by the buttons above, or on the map.",
  "grow-pool": "Choose disks: by the buttons above, or on the map.",
  "create-volume": "Give it a name and a size.",
  "delete-volume": "Read what would be destroyed, then type the volume's name.",
  "delete-pool": "Read what would be given up, then type the pool's name.",
  "clear-disk": "Read what would be destroyed, then type the disk's name.",
  retire: "Choose what is to be emptied and let go.",
  "replace-disk": "Choose the disk that takes its place.",
  "change-role": "Choose a role, and write why where the rule says otherwise.",
  rename: "Choose nodes and write their new names.",
  "address-ports": "Choose nodes, a port and the first address.",
};
const waiting = computed(() =>
  kind.value === "create-volume" && !barn.value?.pools.length
    ? "A volume draws from a pool, and there is none yet. Form a pool first."
    : (WAITING[kind.value ?? ""] ?? ""),
);
const choosing = computed(() => kind.value === "form-pool" || kind.value === "grow-pool");
const onDisks = computed(() => everyEffect(preview.value, "on-disks"));
const arriving = computed(
  () => Object.assign({}, ...onDisks.value.map((e) => e.arriving)) as Record<string, number>,
);
const leavingBytes = computed(
  () => Object.assign({}, ...onDisks.value.map((e) => e.leaving)) as Record<string, number>,
);
const ledgers = computed(() => everyEffect(preview.value, "ledgers").flatMap((e) => e.ledgers));
const lit = computed(() =>
  choosing.value || !preview.value ? null : { ...arriving.value, ...leavingBytes.value },
);

watch(
  kind,
  (now) => {
    chosen.value = new Set();
    params.value =
      now === "rebuild"
        ? { pool: String(route.query.pool ?? "") }
        : now === "grow-pool"
          ? { pool: String(route.query.pool ?? ""), disks: [] }
          : given();
  },
  { immediate: true },
);

/** Parameters that the address carries whole, as the way back of a change does. */
function given(): Record<string, unknown> {
  try {
    return JSON.parse(String(route.query["with-params"] ?? "{}")) as Record<string, unknown>;
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
      .map(
        (r) =>
          `${r.label}: ${r.before ? `${amount(r.before.value, r.before.unit)} → ` : ""}${r.after ? amount(r.after.value, r.after.unit) : ""}`,
      ),
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
          <span class="grow" /><button type="button" class="act" @click="copyText">Copy as text</button
          ><button type="button" class="act" @click="close">Close</button>
        </header>
        <p class="summary">
          {{ preview ? `${preview.summary} Nothing has been changed yet.` : "Making the preview …" }}
          <span v-if="lit && hasMap">On the map, striped hay leaves and striped blue arrives.</span>
        </p>
        <PoolWish
          v-if="kind === 'form-pool'"
          v-model="params"
          v-model:chosen="chosen"
          :barn="barn"
          :preview="preview"
        />
        <SettingsWish v-else-if="kind === 'set-pool' && !route.query['with-params']" v-model="params" />
        <LeaveWish v-else-if="leaving" :key="`leave-${kind}`" v-model="params" :kind="kind" />
        <VolumeWish v-else-if="kind === 'create-volume'" v-model="params" :pools="barn.pools" />
        <DiskChooser v-else-if="kind === 'grow-pool'" v-model:chosen="chosen" :barn="barn" />
        <GroundWish
          v-else-if="ground && !route.query['with-params']"
          :key="kind"
          v-model="params"
          :kind="kind"
        />
        <BarnMap
          v-if="hasMap"
          line
          :rooms="barn.rooms"
          :lit="lit"
          :chosen="choosing ? chosen : null"
          :arriving="kind === 'form-pool' ? {} : arriving"
          :leaving="leavingBytes"
          @toggle="(d) => d.fit && toggle(d.name)"
        />
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
          :waiting="preview.blockers.length && !touched ? waiting : undefined"
          :without="kind === 'form-pool' ? ['roles'] : []"
        />
      </div>
      <footer>
        <button type="button" class="btn" :disabled="blocked" @click="carryOut">Carry out</button>
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
.summary {
  color: var(--soft);
  padding-bottom: 8px;
  font-size: var(--t-s);
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
