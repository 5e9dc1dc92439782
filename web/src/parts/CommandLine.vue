<script setup lang="ts">
import CopyName from "./CopyName.vue";

/** Something to type into a shell, to be copied with one press. */
defineProps<{ text: string }>();
</script>

<template>
  <p class="command">
    <code>{{ text }}</code><CopyName :name="text" />
  </p>
</template>

<style scoped>
.command {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 12px;
  padding: 1px 0;
  font-size: var(--t-s);
}
code {
  font-family: var(--mono);
  overflow-wrap: anywhere;
}
</style>
