<script setup lang="ts">
import { ref, watch } from "vue";
import { useSheet, type Wish } from "./kind";

/** Under which name a snapshot is shown as a volume. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const name = ref(`${asked("volume")}-at-${asked("snapshot")}`);
watch(name, () => (wish.value = { volume: asked("volume"), snapshot: asked("snapshot"), name: name.value }), {
  immediate: true,
});
</script>

<template>
  <VTextField v-model="name" label="Name of the volume that shows it" v-first maxlength="80" width="240" />
</template>
