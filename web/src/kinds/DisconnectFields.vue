<script setup lang="ts">
import { reactive, watch } from "vue";
import { useSheet, type Wish } from "./kind";

/** Its name once more. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const wish = reactive({ orchestrator: asked("orchestrator"), typed: "" });
watch(wish, () => (params.value = { ...wish }), { immediate: true });
</script>

<template>
  <VTextField v-model="wish.typed" :label="`Type ${wish.orchestrator}`" v-first width="200" />
</template>
