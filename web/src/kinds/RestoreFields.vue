<script setup lang="ts">
import { ref, watch } from "vue";
import { moment } from "../lib/format";
import { useSheet, type Wish } from "./kind";

/** Under which name the present is kept before a volume, or a VM, is brought back to a snapshot. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const of = asked("vm") ? { vm: asked("vm") } : { volume: asked("volume") };
const name = ref(`before-${moment()}`);
watch(name, () => (wish.value = { ...of, snapshot: asked("snapshot"), keep_as: name.value }), {
  immediate: true,
});
</script>

<template>
  <VTextField v-model="name" label="Name of the present, kept first" autofocus maxlength="63" width="240" />
</template>
