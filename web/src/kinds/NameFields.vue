<script setup lang="ts">
import { ref, watch } from "vue";
import { useSheet, type Wish } from "./kind";

/** How a volume, a VM or a share is to be called. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const of = asked("vm")
  ? { vm: asked("vm") }
  : asked("share")
    ? { share: asked("share") }
    : { volume: asked("volume") };
const name = ref("");
watch(name, () => (params.value = { ...of, name: name.value }), { immediate: true });
</script>

<template>
  <VTextField
    v-model="name"
    label="New name"
    :placeholder="`${asked('vm') || asked('share') || asked('volume')} now`"
    v-first
    maxlength="80"
    width="220"
  />
</template>
