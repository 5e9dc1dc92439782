<script setup lang="ts">
import { reactive, ref, watch } from "vue";
import { useFiles } from "../api/client";
import type { Wish } from "./kind";

/** Where the file service is served, and under which names; of one that is on, as it is at first. */
const params = defineModel<Wish>({ required: true });
const { data } = useFiles();
const wish = reactive({ addresses: "", addresses6: "", names: "", name_server: "", nodes: [] as string[] });
const begun = ref(false);
watch(
  data,
  (now) => {
    if (!now || begun.value) return;
    const at = now.addresses.flatMap((a) => a.at);
    wish.addresses = at.filter((a) => !a.includes(":")).join(" ");
    wish.addresses6 = at.filter((a) => a.includes(":")).join(" ");
    wish.names = now.addresses.map((a) => a.name).join(" ");
    wish.name_server = now.name_server;
    begun.value = true;
  },
  { immediate: true },
);
watch(
  [wish, begun],
  () => {
    if (begun.value) params.value = { ...wish };
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <p v-if="!begun" class="small">Reading what is known of the file service …</p>
  <template v-else>
    <VTextField
      v-model="wish.addresses"
      label="Addresses, one for each node"
      placeholder="10.30.0.21-10.30.0.24"
      v-first
      maxlength="4000"
      width="260"
    />
    <VTextField
      v-model="wish.addresses6"
      label="Of version 6, if they have such"
      placeholder="fd00:30::21-fd00:30::24"
      maxlength="4000"
      width="260"
    />
    <VTextField
      v-model="wish.names"
      label="Their names, in this order"
      placeholder="files-{1..4}.example"
      maxlength="20000"
      width="300"
    />
    <VTextField
      v-model="wish.name_server"
      label="Name server that is asked"
      placeholder="10.10.0.2"
      maxlength="100"
      width="200"
    />
    <VSelect
      v-model="wish.nodes"
      :items="data?.could ?? []"
      label="At home on, in this order"
      placeholder="chosen apart from one another"
      multiple
      clearable
      width="300"
    />
  </template>
</template>
