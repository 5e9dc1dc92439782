<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { usePolicy, type PolicyWish } from "../api/client";
import PolicyAsText from "./PolicyAsText.vue";
import { useChoices } from "./choices";
import { useSheet, worded, words, type Wish } from "./kind";

/** What a policy promises: written anew, or upon the version that stands. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const known = asked("policy");
const { data: page } = usePolicy(known);
const { defaults, copies, levels } = useChoices();
const BY = [
  { title: "copies", value: "copies" },
  { title: "parity", value: "parity" },
];
const CACHES = [
  { title: "as its pool has it", value: "any" },
  { title: "none", value: "none" },
  { title: "for reads", value: "read" },
  { title: "writes wait there", value: "write-back" },
  { title: "in memory, for reads", value: "memory" },
];
/** Snapshots that are kept of the first of each. */
const KEPT = [
  { of: "hourly", label: "Hourly snapshots" },
  { of: "daily", label: "Daily snapshots" },
  { of: "weekly", label: "Weekly snapshots" },
] as const;
const MB = 1e6;
const GIB = 2 ** 30;
/** What is typed of a limit: none where nothing is. */
const whole = (typed: unknown) => (typed === null || typed === "" ? null : Math.round(Number(typed)));
const scaled = (typed: unknown) => (whole(typed) === null ? null : Math.round(Number(typed) * MB));
const numbers = (least: number, most: number | undefined) =>
  Array.from({ length: Math.max(0, (most ?? 0) - least + 1) }, (_, i) => least + i);
// The bench leads here with a scheme, which stands in the address.
const by = ref(asked("by") || "copies");
const [k, m] = [Number(asked("k")), Number(asked("m"))];
const wish = reactive({
  name: "",
  version: 0,
  copies: k === 1 ? m + 1 : 3,
  data: k > 1 ? k : 2,
  parity: k > 1 ? m : 1,
  level: asked("over") || "rack",
  per_domain: Number(asked("share")) || 1,
  survives: null as number | null,
  fast: false,
  encrypted: false,
  compressed: false,
  cache: "any",
  memory: 0,
  thin: false,
  landing: 0,
  share: 0,
  share_copies: null as number | null,
  first: 0,
  hourly: 0,
  daily: 0,
  weekly: 0,
  snapshot_room: null as number | null,
  labels: [] as string[],
  operations: null as number | null,
  throughput: null as number | null,
  meant_for: "",
  draft: false,
});
const begun = ref(!known);
const asText = ref(false);
/** Fills the fields with what a policy says. Of a policy that is known the name stands. */
function fill(said: PolicyWish) {
  const { name, version, copies, data, parity, ...rest } = said;
  Object.assign(wish, rest);
  if (!begun.value || !known) Object.assign(wish, { name, version });
  if (copies) wish.copies = copies;
  if (data) wish.data = data;
  if (parity) wish.parity = parity;
  by.value = data || parity ? "parity" : "copies";
}
watch(
  page,
  (now) => {
    if (!now || begun.value) return;
    fill(now.params);
    begun.value = true;
  },
  { immediate: true },
);
const there = computed(() => [
  { title: "to survive as much", value: null },
  ...copies.value.map((n) => ({ title: String(n), value: n })),
]);
const survives = computed(() => [
  { title: "all it can", value: null },
  ...numbers(0, defaults.value?.most_parity).map((n) => ({ title: String(n), value: n })),
]);
watch(
  [wish, by, begun],
  () => {
    if (!begun.value) return;
    const { copies, data, parity, ...rest } = wish;
    // Two strips never share a disk: there the field is not shown, and what it said does not count.
    if (rest.level === "disk") rest.per_domain = 1;
    // Nor does a landing where the field for it is not shown.
    if (by.value === "copies" || rest.fast) rest.landing = 0;
    if (rest.fast) rest.share = 0;
    if (rest.fast || Number(rest.share)) rest.first = 0;
    if (!Number(rest.share) && !rest.first) rest.share_copies = null;
    rest.landing = Number(rest.landing) || 0;
    rest.share = Number(rest.share) || 0;
    rest.memory = rest.cache === "memory" ? Number(rest.memory) || 0 : 0;
    rest.operations = whole(rest.operations);
    for (const rule of KEPT) rest[rule.of] = Number(rest[rule.of]) || 0;
    rest.snapshot_room = KEPT.some((rule) => rest[rule.of]) ? whole(rest.snapshot_room) : null;
    params.value = { ...rest, ...(by.value === "copies" ? { copies } : { data, parity }) };
  },
  { immediate: true },
);
</script>

<template>
  <p v-if="!begun" class="small">Reading what {{ known }} says …</p>
  <template v-else>
    <VTextField
      v-model="wish.name"
      label="Name of the policy"
      :disabled="Boolean(known)"
      v-first="!known"
      maxlength="80"
      width="200"
    />
    <VSelect v-model="by" :items="BY" label="Protects by" width="100" />
    <VSelect v-if="by === 'copies'" v-model="wish.copies" :items="copies" label="Copies" width="80" />
    <template v-else>
      <VSelect v-model="wish.data" :items="numbers(2, defaults?.most_data)" label="Data strips" width="96" />
      <VSelect
        v-model="wish.parity"
        :items="numbers(1, defaults?.most_parity)"
        label="Parity strips"
        width="104"
      />
    </template>
    <VSelect v-model="wish.level" :items="levels" label="Spread over" width="100" />
    <VSelect
      v-if="wish.level !== 'disk'"
      v-model="wish.per_domain"
      :items="numbers(1, defaults?.most_parity)"
      :label="`Strips in one ${wish.level}`"
      width="120"
    />
    <VSelect v-model="wish.survives" :items="survives" label="Losses to survive" width="130" />
    <VTextField
      v-if="by === 'parity' && !wish.fast"
      v-model="wish.landing"
      type="number"
      min="0"
      label="Lands first in, %"
      width="110"
    />
    <VTextField
      v-if="!wish.fast"
      v-model="wish.share"
      type="number"
      min="0"
      label="Hottest on fast, %"
      width="120"
    />
    <VTextField
      v-if="!wish.fast && !Number(wish.share)"
      :model-value="wish.first / GIB"
      type="number"
      min="0"
      label="First on fast, GiB"
      width="120"
      @update:model-value="(typed) => (wish.first = Math.round(Number(typed) * GIB))"
    />
    <VSelect
      v-if="!wish.fast && (Number(wish.share) || wish.first)"
      v-model="wish.share_copies"
      :items="there"
      label="Copies there"
      width="160"
    />
    <VCheckbox v-model="wish.fast" label="on the fast tier" />
    <VCheckbox v-model="wish.encrypted" label="encrypted" />
    <VCheckbox v-model="wish.compressed" label="compressed" />
    <VCheckbox v-model="wish.thin" label="takes room as it is written" />
    <VSelect v-model="wish.cache" :items="CACHES" label="Cache" width="170" />
    <VTextField
      v-if="wish.cache === 'memory'"
      v-model="wish.memory"
      type="number"
      min="1"
      label="Of each node's memory, %"
      width="160"
    />
    <VTextField
      v-model="wish.operations"
      type="number"
      min="1"
      placeholder="no limit"
      label="Operations a second"
      width="130"
    />
    <VTextField
      :model-value="wish.throughput === null ? '' : wish.throughput / MB"
      type="number"
      min="1"
      placeholder="no limit"
      label="MB a second"
      width="110"
      @update:model-value="(typed) => (wish.throughput = scaled(typed))"
    />
    <VTextField
      v-for="rule in KEPT"
      :key="rule.of"
      v-model="wish[rule.of]"
      type="number"
      min="0"
      :label="rule.label"
      width="124"
    />
    <VTextField
      v-if="KEPT.some((rule) => Number(wish[rule.of]))"
      v-model="wish.snapshot_room"
      type="number"
      min="1"
      max="100"
      :placeholder="String(defaults?.snapshot_room ?? '')"
      label="Room for them, %"
      width="120"
    />
    <VTextField
      :model-value="worded(wish.labels)"
      label="Only in pools labelled"
      width="170"
      @update:model-value="(typed) => (wish.labels = words(typed))"
    />
    <VTextField v-model="wish.meant_for" label="Meant for" maxlength="200" width="260" />
    <VCheckbox v-model="wish.draft" label="only a draft" />
    <VBtn class="chip" :aria-expanded="asText" @click="asText = !asText">As text</VBtn>
    <PolicyAsText v-if="asText" :wish="params as PolicyWish" @read="fill" />
  </template>
</template>
