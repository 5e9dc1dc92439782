<script setup lang="ts">
import PageTabs from "../../parts/PageTabs.vue";

const PAGES = [
  ["/volumes", "All volumes"],
  ["/policies", "Policies"],
] as const;
</script>

<template><PageTabs label="Volumes" :pages="PAGES" /></template>
