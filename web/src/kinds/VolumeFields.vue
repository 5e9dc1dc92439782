<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import type { Pool } from "../api/client";
import { useChoices } from "./choices";
import { useSheet, type Wish } from "./kind";

/** What a volume is wished to be: at first protected as its pool usually is. */
const params = defineModel<Wish>({ required: true });
const { barn } = useSheet();
const { defaults, copies, levels } = useChoices();
const pools = computed(() => barn.value?.pools ?? []);
const as = (pool: Pool | undefined) => ({
  copies: pool?.copies,
  level: pool?.level,
  tier: defaults.value?.volume_tier,
});
const wish = reactive({
  name: "",
  pool: pools.value[0]?.name ?? "",
  size: "1 TiB",
  ...as(pools.value[0]),
});
const pool = computed(() => pools.value.find((p) => p.name === wish.pool));
watch(
  () => wish.pool,
  () => Object.assign(wish, as(pool.value)),
);
watch(
  wish,
  () => (params.value = Object.fromEntries(Object.entries(wish).filter(([, said]) => said !== undefined))),
  { immediate: true },
);
</script>

<template>
  <VTextField v-model="wish.name" label="Name of the volume" autofocus maxlength="80" width="220" />
  <VTextField v-model="wish.size" label="Size, such as 1 TiB or 500 GB" width="180" />
  <VSelect v-model="wish.pool" :items="pools.map((p) => p.name)" label="Pool" width="160" />
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
</template>
