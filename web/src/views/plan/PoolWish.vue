<script setup lang="ts">
import { reactive, watch } from "vue";
import type { Barn } from "../../api/client";
import { natural } from "../../lib/natural";
import DiskChooser from "./DiskChooser.vue";

/** What a pool is wished to be. */
defineProps<{ barn: Barn }>();
const params = defineModel<Record<string, unknown>>({ required: true });
const chosen = defineModel<Set<string>>("chosen", { required: true });
const wish = reactive({ name: "", copies: 3, level: "rack", headroom: "node" });
watch([wish, chosen], () => {
  params.value = { ...wish, headroom: wish.headroom === "none" ? null : wish.headroom, disks: [...chosen.value].sort(natural) };
}, { immediate: true });
</script>

<template>
  <form class="wish" @submit.prevent>
    <label class="field">Name<input v-model="wish.name" autofocus maxlength="80" autocomplete="off" aria-label="Name of the pool" /></label>
    <label class="field">Copies<select v-model.number="wish.copies" aria-label="Usual copies"><option v-for="n in 5" :key="n" :value="n">{{ n }}</option></select></label>
    <label class="field">Each in another<select v-model="wish.level" aria-label="Spread over"><option v-for="l in ['room', 'rack', 'node', 'disk']" :key="l">{{ l }}</option></select></label>
    <label class="field">Hold back to rebuild after losing one<select v-model="wish.headroom" aria-label="Hold back for"><option v-for="l in ['none', 'disk', 'node', 'rack']" :key="l">{{ l }}</option></select></label>
  </form>
  <DiskChooser v-model:chosen="chosen" :barn="barn" />
</template>

<style scoped>
.wish { display: flex; gap: 14px; padding-bottom: 6px; align-items: end; }
</style>
