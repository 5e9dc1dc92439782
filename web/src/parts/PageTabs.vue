<script setup lang="ts">
import { useRoute } from "vue-router";

/** The pages of a section: addresses and names. */
defineProps<{ label: string; pages: readonly (readonly [string, string])[] }>();
const route = useRoute();
</script>

<template>
  <nav class="lens" :aria-label="label">
    <VBtn
      v-for="[path, name] in pages"
      :key="path"
      :to="path"
      :active="false"
      :aria-current="route.path === path ? 'page' : undefined"
      >{{ name }}</VBtn
    >
  </nav>
</template>
