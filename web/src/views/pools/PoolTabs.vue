<script setup lang="ts">
import { useRoute } from "vue-router";

/** The pages of the section Pools. */
const route = useRoute();
const PAGES = [["/pools", "All pools"], ["/sizing", "Sizing bench"]] as const;
</script>

<template>
  <nav class="lens" aria-label="Pools">
    <RouterLink v-for="[path, name] in PAGES" :key="path" :to="path" :aria-current="route.path === path ? 'page' : undefined">{{ name }}</RouterLink>
  </nav>
</template>

<style scoped>
a:hover { color: var(--ink); }
a[aria-current] { color: var(--ink); font-weight: 650; box-shadow: 0 2px 0 var(--ink); }
</style>
