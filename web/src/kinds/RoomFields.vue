<script setup lang="ts">
import { ref, watch } from "vue";
import { useSheet, type Wish } from "./kind";

/** How much room there is to be for snapshots. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const room = ref<string>();
watch(room, (now) => (wish.value = { volume: asked("volume"), ...(now ? { room: Number(now) } : {}) }), {
  immediate: true,
});
</script>

<template>
  <VTextField
    v-model="room"
    type="number"
    min="1"
    max="100"
    label="Room for its snapshots, % of its size"
    v-first
    width="260"
  />
</template>
