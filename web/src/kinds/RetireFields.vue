<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { natural } from "../lib/natural";
import { listed, useSheet, type Wish } from "./kind";
import NameChips from "./NameChips.vue";

const WHAT = ["disk", "node", "rack"] as const;
const wish = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const what = ref<(typeof WHAT)[number]>(WHAT.find((w) => asked(w)) ?? "node");
const names = ref(listed(asked(what.value)));
const racks = computed(() => (barn.value?.rooms ?? []).flatMap((r) => r.racks));
const nodes = computed(() => racks.value.flatMap((k) => k.nodes));
const disks = computed(() => nodes.value.flatMap((n) => n.disks));
const choices = computed(() => {
  const inUse = (of: { name: string; disks: { pool?: string | null }[] }[]) =>
    of.filter((n) => n.disks.some((d) => d.pool)).map((n) => n.name);
  const found = {
    rack: () => inUse(racks.value.map((k) => ({ name: k.name, disks: k.nodes.flatMap((n) => n.disks) }))),
    node: () => inUse(nodes.value),
    disk: () => disks.value.filter((d) => d.pool).map((d) => d.name),
  }[what.value]();
  return found.sort(natural);
});
watch(
  [what, names],
  // Nothing chosen is a wish too: what it lacks is said.
  () =>
    (wish.value = { what: what.value, names: names.value.length ? [...names.value].sort(natural) : [""] }),
  { immediate: true },
);
function turn(to: (typeof WHAT)[number]) {
  what.value = to;
  names.value = [];
}
</script>

<template>
  <VSelect :model-value="what" :items="WHAT" label="What to retire" width="110" @update:model-value="turn" />
  <NameChips v-model="names" label="Which" :names="choices" />
</template>
