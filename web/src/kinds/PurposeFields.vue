<script setup lang="ts">
import type { Wish } from "./kind";
import PortFields from "./PortFields.vue";

const wish = defineModel<Wish>({ required: true });
</script>

<template>
  <PortFields v-model="wish" />
  <VSelect
    :model-value="String(wish.purpose ?? '')"
    :items="['management', 'storage', 'client']"
    label="Purpose"
    width="150"
    @update:model-value="(purpose) => (wish = { ...wish, purpose })"
  />
</template>
