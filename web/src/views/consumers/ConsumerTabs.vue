<script setup lang="ts">
import PageTabs from "../../parts/PageTabs.vue";

const PAGES = [
  ["/consumers", "Claims"],
  ["/consumers/namespaces", "Namespaces"],
  ["/consumers/classes", "Classes"],
  ["/consumers/aside", "Kept aside"],
  ["/consumers/orchestrators", "Orchestrators"],
  ["/hosts", "Hosts"],
  ["/vms", "VMs"],
  ["/shares", "Shares"],
] as const;
</script>

<template><PageTabs label="Consumers" :pages="PAGES" /></template>
