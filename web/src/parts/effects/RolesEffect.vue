<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";
import RoleTable from "../RoleTable.vue";

defineProps<{ effect: EffectOf<"roles"> }>();
</script>

<template>
  <RoleTable v-if="effect.rows.length" :roles="effect.rows" />
</template>
