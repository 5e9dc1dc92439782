<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useHosts, useVm } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** At which VM host a VM is switched on. Which of them can take it, and why not, stands in the preview. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const { data } = useHosts();
const { data: vm } = useVm(asked("vm"));
const anew = ref(false);
const host = ref("");
const hosts = computed(() => [
  { title: "the one with the most memory left", value: "" },
  ...(data.value?.hosts ?? []).filter((h) => h.runs).map((h) => ({ title: h.name, value: h.name })),
]);
watch(
  [host, anew],
  () => (wish.value = { vm: asked("vm"), host: host.value, ...(anew.value ? { anew: true } : {}) }),
  { immediate: true },
);
</script>

<template>
  <VSelect v-model="host" :items="hosts" label="At" v-first width="280" />
  <VCheckbox
    v-if="vm?.resumes"
    v-model="anew"
    :label="`anew, and not with what its memory held at ${vm.resumes}`"
  />
</template>
