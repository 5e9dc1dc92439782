<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";
import StateMark from "../StateMark.vue";

defineProps<{ effect: EffectOf<"endurance"> }>();
</script>

<template>
  <p v-for="sentence in effect.sentences" :key="sentence" class="note">
    <StateMark lamp="sound" /><span>{{ sentence }}</span>
  </p>
</template>
