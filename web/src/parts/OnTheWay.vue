<script setup lang="ts">
import { computed } from "vue";
import { useChanges } from "../api/client";
import { doneOf } from "../lib/changes";
import { percent, span } from "../lib/format";

/** Changes that bring something back to what was promised: how far each is, and for how long it goes on. */
const props = defineProps<{ changes: number[] }>();
const { data } = useChanges();
const mine = computed(() => (data.value ?? []).filter((c) => props.changes.includes(c.number)));
</script>

<template>
  <span v-for="c in mine" :key="c.number" class="way">
    <RouterLink :to="`/changes/${c.number}`">{{ c.title }}</RouterLink>
    <template v-if="c.state === 'paused'"> is paused.</template>
    <template v-else-if="c.state === 'waiting'"> waits its turn.</template>
    <template v-else>
      is at {{ percent(doneOf(c)) }}{{ c.seconds_left ? `, about ${span(c.seconds_left)} left` : "" }}.
    </template>
  </span>
</template>

<style scoped>
.way {
  margin-left: 4px;
}
</style>
