<script setup lang="ts">
import type { Wish } from "./kind";
import PortFields from "./PortFields.vue";

const wish = defineModel<Wish>({ required: true });
</script>

<template>
  <PortFields v-model="wish" />
  <VTextField
    :model-value="String(wish.start ?? '')"
    label="First address"
    v-first
    placeholder="10.20.0.11/24"
    width="190"
    @update:model-value="(start) => (wish = { ...wish, start })"
  />
</template>
