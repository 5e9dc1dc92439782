<script setup lang="ts">
import PageTabs from "../../parts/PageTabs.vue";

const PAGES = [
  ["/pools", "All pools"],
  ["/sizing", "Sizing bench"],
] as const;
</script>

<template><PageTabs label="Pools" :pages="PAGES" /></template>
