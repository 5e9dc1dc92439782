<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import { useBarn, type Pool } from "../../api/client";

/** What a volume is wished to be. */
const props = defineProps<{ pools: Pool[] }>();
const params = defineModel<Record<string, unknown>>({ required: true });
const first = props.pools[0];
const wish = reactive({
  name: "",
  pool: first?.name ?? "",
  size: "1 TiB",
  copies: first?.copies ?? 3,
  level: first?.level ?? "rack",
  tier: "bulk",
});
const { data: barn } = useBarn();
const hasFast = computed(() =>
  (barn.value?.rooms ?? []).some((r) =>
    r.racks.some((k) => k.nodes.some((n) => n.disks.some((d) => d.pool === wish.pool && d.tier === "fast"))),
  ),
);
watch(
  () => wish.pool,
  (name) => {
    const pool = props.pools.find((p) => p.name === name);
    if (pool) Object.assign(wish, { copies: pool.copies, level: pool.level, tier: "bulk" });
  },
);
watch(wish, () => (params.value = { ...wish }), { immediate: true });
</script>

<template>
  <form class="wish" @submit.prevent>
    <label class="field"
      >Name<input
        v-model="wish.name"
        autofocus
        maxlength="80"
        autocomplete="off"
        aria-label="Name of the volume"
    /></label>
    <label class="field"
      >Size, such as 1 TiB or 500 GB<input v-model="wish.size" autocomplete="off" aria-label="Size"
    /></label>
    <label class="field"
      >Pool<select v-model="wish.pool" aria-label="Pool">
        <option v-for="p in pools" :key="p.name">{{ p.name }}</option>
      </select></label
    >
    <label class="field"
      >Copies<select v-model.number="wish.copies" aria-label="Copies">
        <option v-for="n in 5" :key="n" :value="n">{{ n }}</option>
      </select></label
    >
    <label class="field"
      >Each in another<select v-model="wish.level" aria-label="Spread over">
        <option v-for="l in ['room', 'rack', 'node', 'disk']" :key="l">{{ l }}</option>
      </select></label
    >
    <label v-if="hasFast" class="field"
      >Tier<select v-model="wish.tier" aria-label="Tier">
        <option>bulk</option>
        <option>fast</option>
      </select></label
    >
  </form>
</template>

<style scoped>
.wish {
  display: flex;
  gap: 14px;
  padding-bottom: 8px;
  align-items: end;
}
</style>
