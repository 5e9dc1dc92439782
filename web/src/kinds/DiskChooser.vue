<script setup lang="ts">
import { computed } from "vue";
import { count } from "../lib/format";
import { natural } from "../lib/natural";
import { useSheet } from "./kind";

/** Choosing fit disks by medium, by node, or on the map beside it. */
const { barn, chosen } = useSheet();
const nodes = computed(() => (barn.value?.rooms ?? []).flatMap((r) => r.racks.flatMap((k) => k.nodes)));
const fit = computed(() => nodes.value.flatMap((n) => n.disks).filter((d) => d.fit));
const media = computed(() => [...new Set(fit.value.map((d) => d.media))].sort(natural));
const barred = computed(() => nodes.value.flatMap((n) => n.disks).filter((d) => d.role === "unfit"));
const addAll = (medium: string) =>
  (chosen.value = new Set([
    ...chosen.value,
    ...fit.value.filter((d) => d.media === medium).map((d) => d.name),
  ]));
const addNode = (name: string) => {
  const of = (nodes.value.find((n) => n.name === name)?.disks ?? []).filter((d) => d.fit).map((d) => d.name);
  const all = of.every((d) => chosen.value.has(d));
  chosen.value = new Set(all ? [...chosen.value].filter((d) => !of.includes(d)) : [...chosen.value, ...of]);
};
</script>

<template>
  <div class="choose">
    <span>{{ count(chosen.size, "disk") }} chosen.</span>
    <VBtn v-for="m in media" :key="m" class="act" @click="addAll(m)">
      All fit {{ m === "nvme" ? "NVMe" : m.toUpperCase() }}
    </VBtn>
    <span class="soft">By node:</span>
    <VBtn
      v-for="n in [...nodes].sort((a, b) => natural(a.name, b.name))"
      :key="n.name"
      class="link"
      @click="addNode(n.name)"
    >
      {{ n.name }}
    </VBtn>
    <VBtn class="act" :disabled="!chosen.size" @click="chosen = new Set()">None</VBtn>
    <span v-if="barred.length" class="soft"
      >Not fit:
      <template v-for="(d, i) in barred.slice(0, 4)" :key="d.name"
        >{{ i ? "; " : "" }}{{ d.name }}, {{ d.reasons.join(" and ") }}</template
      >{{ barred.length > 4 ? `; and ${barred.length - 4} more` : "" }}.</span
    >
  </div>
</template>

<style scoped>
.choose {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 12px;
  font-size: var(--t-s);
  padding-bottom: 6px;
}
.link {
  text-decoration: underline;
  text-underline-offset: 3px;
  text-decoration-color: var(--rule2);
}
</style>
