<script setup lang="ts">
import { computed } from "vue";
import { size } from "../lib/format";
import { natural } from "../lib/natural";
import { useSheet, type Wish } from "./kind";

const wish = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const disks = computed(() =>
  (barn.value?.rooms ?? []).flatMap((r) => r.racks.flatMap((k) => k.nodes.flatMap((n) => n.disks))),
);
const old = computed(() => disks.value.find((d) => d.name === asked("disk")));
// Those of the same medium stand first: they are what one looks for.
const fit = computed(() =>
  disks.value
    .filter((d) => d.fit)
    .sort(
      (a, b) =>
        Number(b.media === old.value?.media) - Number(a.media === old.value?.media) ||
        natural(a.name, b.name),
    ),
);
const items = computed(() => [
  { title: "choose a fit disk", value: "" },
  ...fit.value.map((d) => ({
    title: `${d.name}, ${d.media.toUpperCase()} ${size(d.size_bytes)}`,
    value: d.name,
  })),
]);
</script>

<template>
  <VSelect
    :model-value="String(wish.by ?? '')"
    :items="items"
    label="Replace by"
    v-first
    width="280"
    @update:model-value="(by) => (wish = { ...wish, by })"
  />
</template>
