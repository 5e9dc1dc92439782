<script setup lang="ts">
import { computed } from "vue";
import { useNodes } from "../lib/nodes";
import type { Wish } from "./kind";

const wish = defineModel<Wish>({ required: true });
const { nodes } = useNodes();
const heirs = computed(() => nodes.value.filter((n) => n.member && !n.keeper && n.contact === "heard"));
const items = computed(() => [
  { title: "nobody", value: "" },
  ...heirs.value.map((n) => ({ title: n.name, value: n.name })),
]);
</script>

<template>
  <VSelect
    v-if="heirs.length"
    :model-value="String(wish.successor ?? '')"
    :items="items"
    label="Its vote goes to"
    width="180"
    @update:model-value="(successor) => (wish = { ...wish, successor })"
  />
</template>
