<script setup lang="ts">
import { useNodes } from "../lib/nodes";
import type { Wish } from "./kind";
import NameChips from "./NameChips.vue";

/** Which port of which nodes. */
const wish = defineModel<Wish>({ required: true });
const { names, inOrder, ports } = useNodes();
</script>

<template>
  <NameChips
    :model-value="(wish.nodes as string[]) ?? []"
    label="Nodes, in natural order"
    :names="names"
    @update:model-value="(nodes) => (wish = { ...wish, nodes: inOrder(nodes) })"
  />
  <VSelect
    :model-value="String(wish.port ?? '')"
    :items="ports"
    label="Port"
    width="130"
    @update:model-value="(port) => (wish = { ...wish, port })"
  />
</template>
