<script setup lang="ts">
import type { Wish } from "./kind";

const wish = defineModel<Wish>({ required: true });
</script>

<template>
  <VSelect
    :model-value="String(wish.role ?? '')"
    :items="['capacity', 'cache', 'spare']"
    label="Role"
    width="120"
    @update:model-value="(role) => (wish = { ...wish, role })"
  />
  <VTextField
    :model-value="String(wish.reason ?? '')"
    label="Reason"
    maxlength="300"
    placeholder="where the rule says otherwise"
    width="360"
    @update:model-value="(reason) => (wish = { ...wish, reason })"
  />
</template>
