<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useVolume } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** The pool that a volume is to lie in. */
const wish = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const name = asked("volume");
const { data: volume } = useVolume(name);
const pools = computed(() =>
  (barn.value?.pools ?? []).map((p) => p.name).filter((pool) => pool !== volume.value?.pool),
);
const pool = ref("");
watch(pool, (now) => (wish.value = { volume: name, pool: now }), { immediate: true });
</script>

<template>
  <VSelect v-model="pool" :items="pools" label="Pool" autofocus width="200" />
</template>
