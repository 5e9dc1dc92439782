<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import type { Barn } from "../../api/client";
import { count } from "../../lib/format";
import { natural } from "../../lib/natural";

/** What a pool is wished to be. */
const props = defineProps<{ barn: Barn }>();
const params = defineModel<Record<string, unknown>>({ required: true });
const chosen = defineModel<Set<string>>("chosen", { required: true });
const wish = reactive({ name: "", copies: 3, level: "rack", headroom: "node" });
const nodes = computed(() => props.barn.rooms.flatMap((r) => r.racks.flatMap((k) => k.nodes)));
const fit = computed(() => nodes.value.flatMap((n) => n.disks).filter((d) => d.fit && d.state.lamp !== "not heard" && d.state.lamp !== "failed"));
const media = computed(() => [...new Set(fit.value.map((d) => d.media))].sort(natural));
const barred = computed(() => nodes.value.flatMap((n) => n.disks).filter((d) => d.role === "unfit"));
watch([wish, chosen], () => {
  params.value = { ...wish, headroom: wish.headroom === "none" ? null : wish.headroom, disks: [...chosen.value].sort(natural) };
}, { immediate: true });
const addAll = (medium: string) => (chosen.value = new Set([...chosen.value, ...fit.value.filter((d) => d.media === medium).map((d) => d.name)]));
const addNode = (name: string) => {
  const of = (nodes.value.find((n) => n.name === name)?.disks ?? []).filter((d) => d.fit).map((d) => d.name);
  const all = of.every((d) => chosen.value.has(d));
  chosen.value = new Set(all ? [...chosen.value].filter((d) => !of.includes(d)) : [...chosen.value, ...of]);
};
</script>

<template>
  <form class="wish" @submit.prevent>
    <label class="field">Name<input v-model="wish.name" autofocus maxlength="80" autocomplete="off" aria-label="Name of the pool" /></label>
    <label class="field">Copies<select v-model.number="wish.copies" aria-label="Usual copies"><option v-for="n in 5" :key="n" :value="n">{{ n }}</option></select></label>
    <label class="field">Each in another<select v-model="wish.level" aria-label="Spread over"><option v-for="l in ['room', 'rack', 'node', 'disk']" :key="l">{{ l }}</option></select></label>
    <label class="field">Hold back to rebuild after losing one<select v-model="wish.headroom" aria-label="Hold back for"><option v-for="l in ['none', 'disk', 'node', 'rack']" :key="l">{{ l }}</option></select></label>
  </form>
  <div class="choose">
    <span>{{ count(chosen.size, "disk") }} chosen.</span>
    <button v-for="m in media" :key="m" type="button" class="act" @click="addAll(m)">All fit {{ m === "nvme" ? "NVMe" : m.toUpperCase() }}</button>
    <span class="soft">By node:</span>
    <button v-for="n in [...nodes].sort((a, b) => natural(a.name, b.name))" :key="n.name" type="button" class="link" @click="addNode(n.name)">{{ n.name }}</button>
    <button v-if="chosen.size" type="button" class="act" @click="chosen = new Set()">None</button>
    <span v-if="barred.length" class="soft">Not fit: <template v-for="(d, i) in barred" :key="d.name">{{ i ? "; " : "" }}{{ d.name }}, {{ d.reasons.join(" and ") }}</template>.</span>
  </div>
</template>

<style scoped>
.wish { display: flex; gap: 14px; padding-bottom: 6px; align-items: end; }
.choose { display: flex; flex-wrap: wrap; gap: 4px 12px; font-size: var(--t-s); padding-bottom: 6px; }
.link { text-decoration: underline; text-underline-offset: 3px; text-decoration-color: var(--rule2); }
</style>
