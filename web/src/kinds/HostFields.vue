<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { useHost } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** What a host is called and by which names it connects; of one that is known, as it is at first. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const known = asked("host");
const { data } = useHost(known);
const wish = reactive({ name: "", group: "", initiators: "", agent_url: "" });
const begun = ref(!known);
watch(
  data,
  (now) => {
    if (!now || begun.value) return;
    const initiators = now.initiators.join("\n");
    Object.assign(wish, { name: now.name, group: now.group, initiators, agent_url: now.agent_url });
    begun.value = true;
  },
  { immediate: true },
);
const names = computed(() =>
  wish.initiators
    .split(/\s+/)
    .map((name) => name.trim())
    .filter(Boolean),
);
watch(
  [wish, begun],
  () => {
    if (begun.value) params.value = { ...wish, host: known, initiators: names.value };
  },
  { immediate: true },
);
</script>

<template>
  <p v-if="!begun" class="small">Reading what is known of {{ known }} …</p>
  <template v-else>
    <VTextField v-model="wish.name" label="Name of the host" v-first maxlength="80" width="170" />
    <VTextarea
      v-model="wish.initiators"
      label="Names it connects by, one in each line"
      placeholder="iqn.…, eui.…, naa.… or nqn.…"
      rows="3"
      width="430"
    />
    <VTextField v-model="wish.group" label="Group, if any" maxlength="80" width="140" />
    <VTextField
      v-model="wish.agent_url"
      label="Where its agent answers, if it has one"
      placeholder="http://10.10.0.40:7410"
      width="270"
    />
  </template>
</template>
