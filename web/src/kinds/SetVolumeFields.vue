<script setup lang="ts">
import { reactive, ref, watch } from "vue";
import { useVolume } from "../api/client";
import { useSheet, volumesAsked, words, worded, type Wish } from "./kind";

/** Labels of a volume, limits of its own, and by how many nodes it is served: begins with those it has. Of
 * several, what is filled in. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const volumes = volumesAsked(asked);
const one = volumes.length === 1 ? volumes[0]! : "";
const { data: volume } = useVolume(one);
const MB = 1e6;
const wish = reactive({ labels: "", operations: "", megabytes: "", serving: "" });
const begun = ref(!one);
watch(
  volume,
  (now) => {
    if (!now || begun.value) return;
    const { asked_operations: operations, asked_throughput: throughput } = now.limits;
    wish.labels = worded(now.labels);
    wish.operations = operations ? String(operations) : "";
    wish.megabytes = throughput ? String(throughput / MB) : "";
    wish.serving = String(now.serving_nodes);
    begun.value = true;
  },
  { immediate: true },
);
const whole = (typed: string) => Math.round(Number(typed) || 0);
watch(
  [wish, begun],
  () => {
    if (!begun.value) return;
    // Of one, what is emptied is none; of several, what is left empty stays as each has it.
    params.value = {
      volumes,
      ...(one || wish.labels ? { labels: words(wish.labels) } : {}),
      ...(one || wish.operations ? { operations: whole(wish.operations) } : {}),
      ...(one || wish.megabytes ? { throughput: Math.round((Number(wish.megabytes) || 0) * MB) } : {}),
      ...(wish.serving ? { serving_nodes: whole(wish.serving) } : {}),
    };
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <template v-if="begun">
    <VTextField
      v-model="wish.labels"
      label="Labels, with commas between them"
      :placeholder="one ? 'none' : 'as each has them'"
      v-first
      width="280"
    />
    <VTextField
      v-model="wish.operations"
      type="number"
      min="0"
      label="Most operations a second"
      :placeholder="one ? 'no limit of its own' : 'as each has it'"
      width="190"
    />
    <VTextField
      v-model="wish.megabytes"
      type="number"
      min="0"
      label="Most MB a second"
      :placeholder="one ? 'no limit of its own' : 'as each has it'"
      width="190"
    />
    <VTextField
      v-model="wish.serving"
      type="number"
      min="1"
      label="Nodes that serve it to hosts"
      :placeholder="one ? '' : 'as each has it'"
      width="190"
    />
  </template>
  <p v-else class="small">Reading what is set of {{ one }} …</p>
</template>
