<script setup lang="ts">
import { computed } from "vue";
import { natural } from "../lib/natural";
import { useSheet } from "./kind";

/** Nodes and disks of a pool of which alone some may hold a volume; any where none is chosen. */
const chosen = defineModel<string[]>({ required: true });
const props = defineProps<{ pool?: string }>();
const { barn } = useSheet();
const items = computed(() => {
  const nodes = (barn.value?.rooms ?? []).flatMap((room) => room.racks.flatMap((rack) => rack.nodes));
  const mine = nodes
    .map((node) => ({
      name: node.name,
      disks: node.disks.filter((d) => d.pool && (!props.pool || d.pool === props.pool)).map((d) => d.name),
    }))
    .filter((node) => node.disks.length);
  const byName = (a: string, b: string) => natural(a, b);
  return [...mine.map((node) => node.name).sort(byName), ...mine.flatMap((node) => node.disks).sort(byName)];
});
</script>

<template>
  <VAutocomplete
    v-model="chosen"
    :items="items"
    label="Only on these nodes or disks"
    placeholder="any of its pool"
    :no-data-text="pool ? `No node or disk of ${pool} is called so.` : 'No node or disk is called so.'"
    multiple
    chips
    closable-chips
    width="340"
  />
</template>
