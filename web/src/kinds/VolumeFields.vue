<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { usePolicies, type Pool } from "../api/client";
import { useChoices, usePlaces } from "./choices";
import WhereFields from "./WhereFields.vue";
import { useSheet, type Wish } from "./kind";

/** What a volume is wished to be: by a policy, or protected by hand, at first as its pool usually is. */
const params = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const { data: policies } = usePolicies();
const { defaults, copies, levels } = useChoices();
const pools = computed(() => barn.value?.pools ?? []);
const as = (pool: Pool | undefined) => ({
  copies: pool?.copies,
  level: pool?.level,
  tier: defaults.value?.volume_tier,
});
const wish = reactive({
  name: "",
  policy: asked("policy"),
  pool: asked("policy") ? "" : (pools.value[0]?.name ?? ""),
  size: "1 TiB",
  table: "",
  thin: false,
  ...as(pools.value[0]),
});
const pool = computed(() => pools.value.find((p) => p.name === wish.pool));
const kept = computed(() => [
  { title: "none: by hand", value: "" },
  ...(policies.value ?? []).map((p) => ({ title: p.draft ? `${p.name} (draft)` : p.name, value: p.name })),
]);
const where = usePlaces(() => wish.policy);
watch(
  () => wish.policy,
  (now, before) => {
    if (now && !before) wish.pool = "";
    if (!now) wish.pool ||= pools.value[0]?.name ?? "";
  },
);
watch(
  () => wish.pool,
  () => Object.assign(wish, as(pool.value)),
);
/** Several at once: each line has a name of its own, and a size. */
const pasting = ref(false);
watch(pasting, (now) => Object.assign(wish, now ? { name: "", size: "" } : { table: "", size: "1 TiB" }));
/** Where it may lie, where that is not to be any disk of its pool. */
const choosing = ref(false);
const only = ref<string[]>([]);
watch(choosing, (now) => now || (only.value = []));
const byHand = ["copies", "level", "tier", "thin"];
watch(
  [wish, only],
  () => {
    const said = Object.entries(wish).filter(([, value]) => value !== undefined);
    const where = only.value.length ? { only_on: only.value } : {};
    const mine = said.filter(([name]) => !wish.policy || !byHand.includes(name));
    params.value = { ...Object.fromEntries(mine), ...where };
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <VTextarea
    v-if="pasting"
    v-model="wish.table"
    label="A name and a size in each line, as pasted from a spreadsheet"
    v-first
    rows="5"
    width="400"
  />
  <template v-else>
    <VTextField
      v-model="wish.name"
      label="Name of the volume"
      placeholder="or several: web-{01..12}"
      v-first
      maxlength="80"
      width="200"
    />
    <VTextField v-model="wish.size" label="Size, such as 1 TiB, or all that fits" width="220" />
  </template>
  <VSelect
    v-if="policies?.length || wish.policy"
    v-model="wish.policy"
    :items="kept"
    label="Policy"
    width="150"
  />
  <VSelect v-model="wish.pool" :items="where" label="Pool" width="170" />
  <template v-if="!wish.policy">
    <VSelect v-model="wish.copies" :items="copies" label="Copies" width="70" />
    <VSelect v-model="wish.level" :items="levels" label="Spread over" width="100" />
    <VSelect
      v-if="pool && pool.tiers.length > 1"
      :model-value="wish.tier ?? defaults?.volume_tier"
      :items="pool.tiers"
      label="Tier"
      width="100"
      @update:model-value="(tier) => (wish.tier = tier)"
    />
    <VCheckbox v-model="wish.thin" label="takes room as it is written" />
  </template>
  <VCheckbox v-model="choosing" label="only on chosen nodes or disks" />
  <WhereFields v-if="choosing" v-model="only" :pool="wish.pool" />
  <VCheckbox v-model="pasting" label="several, from a table" />
</template>
