<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";
import LevelTable from "../LevelTable.vue";

defineProps<{ effect: EffectOf<"levels"> }>();
</script>

<template>
  <LevelTable v-if="effect.after.length" :before="effect.before" :after="effect.after" />
</template>
