<script setup lang="ts">
import type { Lamp } from "../api/client";

/** A lamp: shape before colour. `word` puts its name beside it. */
defineProps<{ lamp: Lamp; word?: boolean }>();
const WORDS: Record<Lamp, string> = {
  sound: "sound",
  watch: "watch",
  mending: "mending",
  short: "short",
  failed: "failed",
  away: "away",
  "not heard": "not heard",
};
</script>

<template>
  <span class="state" :data-lamp="lamp">
    <svg viewBox="0 0 12 12" role="img" :aria-label="WORDS[lamp]">
      <circle v-if="lamp === 'sound'" cx="6" cy="6" r="2.6" fill="var(--sound)" />
      <path
        v-else-if="lamp === 'watch'"
        d="M6 .9 11.1 6 6 11.1 .9 6Z"
        fill="var(--watch-fill)"
        stroke="var(--watch)"
        stroke-width="1.2"
      />
      <path
        v-else-if="lamp === 'mending'"
        d="M1 9.4 6 3.2 11 9.4"
        fill="none"
        stroke="var(--mending)"
        stroke-width="2.9"
      />
      <path v-else-if="lamp === 'short'" d="M1 1H6V6H11V11H1Z" fill="var(--short)" />
      <path
        v-else-if="lamp === 'failed'"
        d="M1.6 1.6 10.4 10.4M10.4 1.6 1.6 10.4"
        stroke="var(--failed)"
        stroke-width="2.9"
      />
      <circle
        v-else-if="lamp === 'away'"
        cx="6"
        cy="6"
        r="4"
        fill="none"
        stroke="var(--away)"
        stroke-width="1.8"
      />
      <path v-else d="M1 6H11" stroke="var(--away)" stroke-width="2.6" />
    </svg>
    <span v-if="word">{{ WORDS[lamp] }}</span>
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 5px;
  white-space: nowrap;
}
svg {
  width: 12px;
  height: 12px;
  flex: none;
  overflow: visible;
}
</style>
