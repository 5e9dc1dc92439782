<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";
import PoolAnswers from "../PoolAnswers.vue";

defineProps<{ effect: EffectOf<"pool-answers"> }>();
</script>

<template>
  <div class="sec"><h2>Which pools can keep it</h2></div>
  <PoolAnswers :rows="effect.rows" />
</template>
