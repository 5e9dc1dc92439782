<script setup lang="ts">
import { useNodes } from "../lib/nodes";
import type { Wish } from "./kind";
import NameChips from "./NameChips.vue";

const wish = defineModel<Wish>({ required: true });
const { names, inOrder } = useNodes();
</script>

<template>
  <NameChips
    :model-value="(wish.nodes as string[]) ?? []"
    label="Nodes, in natural order"
    :names="names"
    @update:model-value="(nodes) => (wish = { ...wish, nodes: inOrder(nodes) })"
  />
  <VTextField
    :model-value="String(wish.pattern ?? '')"
    label="Pattern of the new names"
    placeholder="heron-{01..12}"
    v-first
    width="220"
    @update:model-value="(pattern) => (wish = { ...wish, pattern })"
  />
</template>
