<script setup lang="ts">
import { ref, watch } from "vue";
import { useVolume } from "../api/client";
import { binarySize } from "../lib/format";
import { useSheet, type Wish } from "./kind";

/** How large a volume is to be. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const name = asked("volume");
const { data: volume } = useVolume(name);
const size = ref("");
watch(size, () => (params.value = { volume: name, size: size.value }), { immediate: true });
</script>

<template>
  <VTextField
    v-model="size"
    label="New size, such as 1 TiB or 500 GB"
    :placeholder="volume ? `${binarySize(volume.size_bytes)} now` : ''"
    v-first
    width="220"
  />
</template>
