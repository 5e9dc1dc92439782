<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useVolume } from "../api/client";
import WhereFields from "./WhereFields.vue";
import { useSheet, type Wish } from "./kind";

/** Where a volume may lie, at first as it may now. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const name = asked("volume");
const { data: volume } = useVolume(name);
const said = ref<string[]>();
const chosen = computed({
  get: () => said.value ?? volume.value?.only_on ?? [],
  set: (now) => (said.value = now),
});
watch(said, (now) => (wish.value = { volume: name, ...(now ? { only_on: now } : {}) }), { immediate: true });
</script>

<template>
  <WhereFields v-model="chosen" :pool="volume?.pool" />
</template>
