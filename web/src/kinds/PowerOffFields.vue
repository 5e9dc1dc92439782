<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useVm } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** How a VM is switched off; where its host is not heard, whether that is gone. */
const wish = defineModel<Wish>({ required: true });
const { asked, preview } = useSheet();
const name = asked("vm");
const { data: vm } = useVm(name);
const how = ref("shut-down");
const typed = ref("");
const ways = computed(() => [
  { title: "its operating system shuts down", value: "shut-down" },
  { title: "its power is cut", value: "forced" },
  ...(vm.value?.power === "unknown"
    ? [{ title: `${vm.value.host} is gone: it has no power`, value: "gone" }]
    : []),
]);
watch(
  [how, typed],
  () => {
    const gone = how.value === "gone";
    wish.value = {
      vm: name,
      forced: how.value === "forced",
      host_gone: gone,
      typed: gone ? typed.value : "",
    };
  },
  { immediate: true },
);
</script>

<template>
  <VSelect v-model="how" :items="ways" label="How" v-first width="280" />
  <VTextField
    v-if="how === 'gone'"
    v-model="typed"
    :label="`Type ${preview?.type_to_confirm || name} to confirm`"
    width="260"
  />
</template>
