<script setup lang="ts">
import { useSheet, type Wish } from "./kind";

/** What is to be destroyed has its name typed, where that is asked for. */
const wish = defineModel<Wish>({ required: true });
const { preview } = useSheet();
const NAMED = ["volume", "pool", "disk"];
const name = () =>
  preview.value?.type_to_confirm || String(NAMED.map((n) => wish.value[n]).find(Boolean) ?? "");
</script>

<template>
  <VTextField
    v-if="name()"
    :model-value="String(wish.typed ?? '')"
    :label="`Type ${name()} to confirm`"
    v-first
    width="260"
    @update:model-value="(typed) => (wish = { ...wish, typed })"
  />
</template>
