<script setup lang="ts">
import { computed } from "vue";
import { Refused } from "../api/client";
import StateMark from "./StateMark.vue";

/** A refusal or a failure, in its own words with what would help. */
const props = defineProps<{ error: unknown }>();
const problem = computed(() => (props.error instanceof Refused ? props.error.problem : null));
</script>

<template>
  <div v-if="error" class="problem" role="alert">
    <StateMark lamp="failed" />
    <span
      >{{ problem?.detail ?? String(error) }}
      <span v-if="problem?.next_step" class="soft">{{ problem.next_step }}</span></span
    >
  </div>
</template>
