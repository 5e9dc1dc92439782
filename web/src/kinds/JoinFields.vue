<script setup lang="ts">
import type { Wish } from "./kind";

const wish = defineModel<Wish>({ required: true });
</script>

<template>
  <VCheckbox
    :model-value="wish.keeper === true"
    label="It gets a vote"
    @update:model-value="(on) => (wish = { ...wish, keeper: on === true })"
  />
</template>
