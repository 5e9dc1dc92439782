<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useAttachments } from "../api/client";
import { listed, useSheet, type Wish } from "./kind";
import NameChips from "./NameChips.vue";

/** Which of its hosts a volume is to be parted from. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const volume = asked("volume");
const { data: lanes } = useAttachments(volume);
const hosts = ref(listed(asked("hosts")));
const names = computed(() => (lanes.value ?? []).map((l) => l.host));
watch(hosts, () => (params.value = { volume, hosts: hosts.value }), { immediate: true, deep: true });
</script>

<template><NameChips v-model="hosts" label="Hosts that are to reach it no more" :names="names" /></template>
