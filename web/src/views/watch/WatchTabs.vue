<script setup lang="ts">
import PageTabs from "../../parts/PageTabs.vue";

const PAGES = [
  ["/watch", "Now"],
  ["/watch/rules", "Rules"],
  ["/watch/routes", "Who is told"],
] as const;
</script>

<template><PageTabs label="Watch" :pages="PAGES" /></template>
