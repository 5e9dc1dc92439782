<script setup lang="ts">
import PageTabs from "../../parts/PageTabs.vue";

const PAGES = [
  ["/machines", "All machines"],
  ["/intake", "Take in"],
  ["/arrange", "Arrange"],
  ["/text", "As text"],
] as const;
</script>

<template><PageTabs label="Machines" :pages="PAGES" /></template>
