<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useVm } from "../api/client";
import { moment } from "../lib/format";
import { useSheet, type Wish } from "./kind";

/** Under which name the present is kept before a volume, or a VM, is brought back to a snapshot. */
const wish = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const of = asked("vm") ? { vm: asked("vm") } : { volume: asked("volume") };
const name = ref(`before-${moment()}`);
const { data: vm } = useVm(asked("vm"));
/** Whether what its memory held then is kept too. */
const kept = computed(() => vm.value?.snapshots.find((s) => s.name === asked("snapshot"))?.memory);
const memory = ref(true);
watch(
  [name, memory, kept],
  () => {
    const with_it = kept.value ? { memory: memory.value } : {};
    wish.value = { ...of, snapshot: asked("snapshot"), keep_as: name.value, ...with_it };
  },
  { immediate: true },
);
</script>

<template>
  <VTextField v-model="name" label="Name of the present, kept first" v-first maxlength="63" width="240" />
  <VCheckbox v-if="kept" v-model="memory" label="with its memory: it goes on from there" />
</template>
