<script setup lang="ts">
import { computed } from "vue";
import type { EffectOf } from "../../lib/effects";
import StateMark from "../StateMark.vue";

const props = defineProps<{ effect: EffectOf<"checks"> }>();
const LAMP = { pass: "sound", doubt: "watch", fail: "failed" } as const;
const ORDER = { fail: 0, doubt: 1, pass: 2 } as const;
const checks = computed(() => [...props.effect.rows].sort((a, b) => ORDER[a.result] - ORDER[b.result]));
const capital = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);
</script>

<template>
  <p v-for="c in checks" :key="c.name + c.sentence" class="note" :data-check="c.result">
    <StateMark :lamp="LAMP[c.result]" />
    <span>
      <b>{{ capital(c.name) }}:</b> {{ c.sentence }} <span class="soft">{{ c.cure }}</span>
    </span>
  </p>
</template>
