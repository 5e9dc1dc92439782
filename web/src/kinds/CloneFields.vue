<script setup lang="ts">
import { ref, watch } from "vue";
import { useSheet, type Wish } from "./kind";

/** What a VM made from a snapshot of another is called. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const name = ref("");
watch(name, () => (wish.value = { vm: asked("vm"), snapshot: asked("snapshot"), name: name.value }), {
  immediate: true,
});
</script>

<template>
  <VTextField v-model="name" label="Name of the new VM" autofocus maxlength="80" width="240" />
</template>
