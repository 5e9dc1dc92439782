<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useVm, useVolume } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** The pool that a volume, or all of a VM, is to lie in. */
const wish = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const of = asked("vm") ? { vm: asked("vm") } : { volume: asked("volume") };
const { data: volume } = useVolume(asked("vm") ? "" : asked("volume"));
const { data: vm } = useVm(asked("vm"));
/** All of it lies there already. */
const lies = computed(() => volume.value?.pool ?? (vm.value?.pools.length === 1 ? vm.value.pools[0] : ""));
const pools = computed(() =>
  (barn.value?.pools ?? []).map((p) => p.name).filter((pool) => pool !== lies.value),
);
const pool = ref("");
watch(pool, (now) => (wish.value = { ...of, pool: now }), { immediate: true });
</script>

<template>
  <VSelect v-model="pool" :items="pools" label="Pool" v-first width="200" />
</template>
