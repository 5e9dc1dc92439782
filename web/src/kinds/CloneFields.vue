<script setup lang="ts">
import { ref, watch } from "vue";
import { useVm } from "../api/client";
import { binarySize } from "../lib/format";
import { useSheet, type Wish } from "./kind";

/** What a VM made from a snapshot of another is called, and what it has, where that is not the same. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const { data: vm } = useVm(asked("vm"));
const name = ref("");
const cpus = ref("");
const memory = ref("");
watch(
  [name, cpus, memory],
  () => {
    const own = { cpus: Number(cpus.value) || 0, memory: memory.value };
    wish.value = { vm: asked("vm"), snapshot: asked("snapshot"), name: name.value, ...own };
  },
  { immediate: true },
);
</script>

<template>
  <VTextField v-model="name" label="Name of the new VM" v-first maxlength="80" width="240" />
  <VTextField
    v-model="cpus"
    type="number"
    min="1"
    :placeholder="vm ? String(vm.cpus) : ''"
    label="Processors"
    width="110"
  />
  <VTextField
    v-model="memory"
    :placeholder="vm ? binarySize(vm.memory_bytes) : ''"
    label="Memory, such as 8 GiB"
    width="170"
  />
</template>
