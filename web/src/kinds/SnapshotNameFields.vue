<script setup lang="ts">
import { ref, watch } from "vue";
import { useSheet, type Wish } from "./kind";

/** How a snapshot is to be called. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const name = ref(asked("snapshot"));
watch(name, () => (wish.value = { volume: asked("volume"), snapshot: asked("snapshot"), name: name.value }), {
  immediate: true,
});
</script>

<template>
  <VTextField v-model="name" label="Name of the snapshot" v-first maxlength="63" width="240" />
</template>
