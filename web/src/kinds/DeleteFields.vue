<script setup lang="ts">
import { ref, watch } from "vue";
import { useDefaults } from "../api/client";
import { useSheet, volumesAsked, type Wish } from "./kind";

/** For how long volumes, or those of a VM or a share, are kept in the bin, and their name, typed. */
const wish = defineModel<Wish>({ required: true });
const { asked, preview } = useSheet();
const volumes = volumesAsked(asked);
const vm = asked("vm");
const share = asked("share");
const { data: defaults } = useDefaults();
const days = ref<string>();
const typed = ref("");
watch([days, typed], () => {
  wish.value = {
    ...(vm ? { vm } : share ? { share } : { volumes }),
    ...(days.value ? { days: Number(days.value) } : {}),
    typed: typed.value,
  };
});
</script>

<template>
  <VTextField
    v-model="typed"
    :label="`Type ${preview?.type_to_confirm || vm || share || volumes[0]} to confirm`"
    v-first
    width="260"
  />
  <VTextField
    v-model="days"
    type="number"
    min="1"
    :max="defaults?.most_bin_days"
    :placeholder="String(defaults?.bin_days ?? '')"
    label="Days in the bin"
    width="140"
  />
</template>
