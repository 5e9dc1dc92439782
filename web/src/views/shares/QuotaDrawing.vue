<script setup lang="ts">
import { computed } from "vue";
import type { components } from "../../api/schema.gen";
import { binarySize, percent } from "../../lib/format";

/** A share's quota as a trough: what is used, the warn level, and the end at which writes are refused. */
const props = defineProps<{ share: components["schemas"]["SharePage"] }>();
const WIDTH = 560;
const used = computed(() => Math.min(1, props.share.used_bytes / props.share.quota_bytes));
const warn = computed(() => props.share.warn_bytes / props.share.quota_bytes);
const told = computed(
  () =>
    `${binarySize(props.share.used_bytes)} used, said to fill from ${binarySize(props.share.warn_bytes)}, ` +
    `full at ${binarySize(props.share.quota_bytes)}`,
);
</script>

<template>
  <svg :viewBox="`0 0 ${WIDTH} 62`" role="img" :aria-label="told">
    <rect x=".5" y="20.5" :width="WIDTH - 1" height="18" class="trough" />
    <rect x=".5" y="20.5" :width="(WIDTH - 1) * used" height="18" class="level" />
    <path v-if="used" :d="`M${(WIDTH - 1) * used} 20V39`" class="line" />
    <path :d="`M${WIDTH * warn} 14V44`" class="warn" />
    <text x="0" y="13">{{ binarySize(share.used_bytes) }} used, {{ percent(used) }}</text>
    <text :x="WIDTH * warn" y="57" :text-anchor="warn > 0.75 ? 'end' : 'middle'" class="soft">
      said to fill from {{ share.warn }} %
    </text>
    <text :x="WIDTH" y="13" text-anchor="end">quota {{ binarySize(share.quota_bytes) }}</text>
  </svg>
</template>

<style scoped>
svg {
  width: 100%;
  max-width: 640px;
  display: block;
  padding-top: 6px;
}
text {
  font-size: 12px;
  fill: var(--ink);
}
.soft {
  fill: var(--soft);
}
.trough {
  fill: var(--well);
  stroke: var(--edge);
}
.level {
  fill: var(--hay);
}
.line {
  stroke: var(--hay-line);
  stroke-width: 2;
}
.warn {
  stroke: var(--ink);
  stroke-width: 1.5;
  stroke-dasharray: 3 2;
}
</style>
