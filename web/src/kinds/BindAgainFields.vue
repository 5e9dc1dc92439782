<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import { useClaim, useClaims } from "../api/client";
import { binarySize } from "../lib/format";
import { useSheet, type Wish } from "./kind";

/** Which of the claims that wait is to have what is kept aside. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const wish = reactive({ claim: Number(asked("claim")), to: Number(asked("to")) });
const { data: kept } = useClaim(() => wish.claim);
const { data: waiting } = useClaims({ life: ["waiting"], per: 500 });
/** Those that could have it come first. */
const items = computed(() => {
  const may = new Set(kept.value?.may_have.map((c) => c.number));
  const all = [...(waiting.value?.claims ?? [])].sort(
    (a, b) => Number(may.has(b.number)) - Number(may.has(a.number)),
  );
  return all.map((c) => ({
    title: `${c.namespace}/${c.name}, ${binarySize(c.size)}${may.has(c.number) ? "" : ": cannot have it"}`,
    value: c.number,
  }));
});
watch(wish, () => (params.value = { ...wish }), { immediate: true });
</script>

<template>
  <VSelect
    :model-value="wish.to || null"
    :items="items"
    label="Claim that is to have it"
    :placeholder="items.length ? 'choose one that waits' : 'no claim waits'"
    v-first
    width="360"
    @update:model-value="(v) => (wish.to = v ?? 0)"
  />
</template>
