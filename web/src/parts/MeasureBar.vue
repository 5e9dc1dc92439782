<script setup lang="ts">
import { computed } from "vue";

/** How much of a limit is used: a trough with its level, and the words beside it. No limit, no trough. */
const props = defineProps<{ used: number; limit: number | null; words: string; label: string }>();
const share = computed(() => {
  if (!props.limit) return props.used ? 1 : 0;
  return Math.min(1, props.used / props.limit);
});
const over = computed(() => props.limit !== null && props.used > props.limit);
</script>

<template>
  <span class="measure" :aria-label="`${label}: ${words}`" role="img">
    <svg v-if="limit !== null" viewBox="0 0 80 10" aria-hidden="true" preserveAspectRatio="none">
      <rect x=".5" y=".5" width="79" height="9" class="trough" />
      <rect x=".5" y=".5" :width="79 * share" height="9" class="level" />
      <path v-if="share" :d="`M${0.5 + 79 * share} 0V10`" :class="over ? 'over' : 'line'" />
    </svg>
    <span aria-hidden="true">{{ words }}</span>
  </span>
</template>

<style scoped>
.measure {
  display: inline-flex;
  align-items: center;
  gap: 8px;
  white-space: nowrap;
}
svg {
  width: 80px;
  height: 10px;
  flex: none;
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
.over {
  stroke: var(--failed);
  stroke-width: 3;
}
</style>
