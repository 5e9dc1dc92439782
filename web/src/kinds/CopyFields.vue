<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import { usePolicies } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** What a volume made from a snapshot is called, which policy it keeps and where it lies. */
const params = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const { data: policies } = usePolicies();
const wish = reactive({ name: "", policy: "", pool: "" });
const kept = computed(() => [
  { title: "as the original", value: "" },
  ...(policies.value ?? []).filter((p) => !p.draft).map((p) => ({ title: p.name, value: p.name })),
]);
const where = computed(() => [
  { title: "that of the original", value: "" },
  ...(barn.value?.pools ?? []).map((p) => ({ title: p.name, value: p.name })),
]);
watch(
  wish,
  () => {
    const said = Object.entries(wish).filter(([name, value]) => name === "name" || value);
    params.value = { volume: asked("volume"), snapshot: asked("snapshot"), ...Object.fromEntries(said) };
  },
  { immediate: true },
);
</script>

<template>
  <VTextField
    v-model="wish.name"
    label="Name of the new volume"
    :placeholder="`from ${asked('snapshot')} of ${asked('volume')}`"
    v-first
    maxlength="80"
    width="240"
  />
  <VSelect v-model="wish.policy" :items="kept" label="Policy" width="190" />
  <VSelect v-model="wish.pool" :items="where" label="Pool" width="190" />
</template>
