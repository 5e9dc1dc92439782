<script setup lang="ts">
import { useRoute } from "vue-router";

/** The pages of a section: addresses and names. */
defineProps<{ label: string; pages: readonly (readonly [string, string])[] }>();
const route = useRoute();
</script>

<template>
  <nav class="lens" :aria-label="label">
    <RouterLink
      v-for="[path, name] in pages"
      :key="path"
      :to="path"
      :aria-current="route.path === path ? 'page' : undefined"
      >{{ name }}</RouterLink
    >
  </nav>
</template>

<style scoped>
a:hover {
  color: var(--ink);
}
a[aria-current] {
  color: var(--ink);
  font-weight: 650;
  box-shadow: 0 2px 0 var(--ink);
}
</style>
