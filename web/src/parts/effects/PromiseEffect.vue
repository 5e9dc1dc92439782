<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";
import StateMark from "../StateMark.vue";

defineProps<{ effect: EffectOf<"promise"> }>();
</script>

<template>
  <p class="note">
    <StateMark lamp="sound" />
    <span>
      <b>{{ effect.title }}:</b> {{ effect.sentence }}
    </span>
  </p>
</template>
