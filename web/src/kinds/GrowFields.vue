<script setup lang="ts">
import { watch } from "vue";
import { natural } from "../lib/natural";
import DiskChooser from "./DiskChooser.vue";
import { useSheet, type Wish } from "./kind";

const wish = defineModel<Wish>({ required: true });
const { chosen } = useSheet();
watch(chosen, (now) => (wish.value = { ...wish.value, disks: [...now].sort(natural) }));
</script>

<template>
  <DiskChooser />
</template>
