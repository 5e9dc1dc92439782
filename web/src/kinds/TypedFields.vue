<script setup lang="ts">
import type { Wish } from "./kind";

/** What is to be destroyed has its name typed. */
const wish = defineModel<Wish>({ required: true });
const NAMED = ["volume", "pool", "disk"];
const name = () => String(NAMED.map((n) => wish.value[n]).find(Boolean) ?? "");
</script>

<template>
  <VTextField
    :model-value="String(wish.typed ?? '')"
    :label="`Type ${name()} to confirm`"
    autofocus
    width="260"
    @update:model-value="(typed) => (wish = { ...wish, typed })"
  />
</template>
