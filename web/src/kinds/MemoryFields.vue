<script setup lang="ts">
import { ref, watch } from "vue";
import { moment } from "../lib/format";
import { useSheet, type Wish } from "./kind";

/** What a snapshot of a VM with its memory is called. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const name = ref(moment());
watch(name, () => (wish.value = { vm: asked("vm"), name: name.value }), { immediate: true });
</script>

<template>
  <VTextField v-model="name" label="Name of the snapshot" v-first maxlength="63" width="220" />
</template>
