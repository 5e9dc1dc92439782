<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { useConsumers, usePolicies, type StorageClass } from "../api/client";
import { useSheet, worded, words, type Wish } from "./kind";

/** Under which name claims ask for a policy, and what they get with it; of one that is known, as it is. */
const params = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const known = asked("class");
const { data } = useConsumers();
const { data: policies } = usePolicies();
const RECLAIM = [
  { title: "goes into the bin", value: "Delete" },
  { title: "is kept aside", value: "Retain" },
] as const;
const BINDING = [
  { title: "at once", value: "Immediate" },
  { title: "for its first pod", value: "WaitForFirstConsumer" },
] as const;
const SYSTEMS = [
  { title: "xfs", value: "xfs" },
  { title: "ext4", value: "ext4" },
  { title: "none: a block device", value: "none" },
] as const;
const wish = reactive({
  name: asked("name"),
  policy: asked("policy"),
  pool: "",
  reclaim: "Delete" as StorageClass["reclaim"],
  binding: "Immediate" as StorageClass["binding"],
  expands: true,
  file_system: "xfs" as StorageClass["file_system"],
  mount_options: "",
  default: false,
});
const begun = ref(!known);
const old = computed(() => data.value?.classes.find((c) => c.name === known));
watch(
  old,
  (now) => {
    if (!now || begun.value) return;
    const { name, policy, pool, reclaim, binding, expands, file_system } = now;
    Object.assign(wish, { name, policy, pool, reclaim, binding, expands, file_system });
    Object.assign(wish, { default: now.default, mount_options: worded(now.mount_options) });
    begun.value = true;
  },
  { immediate: true },
);
const pools = computed(() => [
  { title: "whichever takes it best", value: "" },
  ...(barn.value?.pools ?? []).map((p) => ({ title: p.name, value: p.name })),
]);
watch(
  [wish, begun],
  () => {
    if (!begun.value) return;
    params.value = { ...wish, storage_class: known, mount_options: words(wish.mount_options) };
  },
  { immediate: true },
);
</script>

<template>
  <p v-if="!begun" class="small">Reading the class {{ known }} …</p>
  <template v-else>
    <VTextField
      v-model="wish.name"
      label="Name of the class"
      :readonly="Boolean(known)"
      v-first
      maxlength="253"
      width="180"
    />
    <VSelect
      v-model="wish.policy"
      :items="(policies ?? []).filter((p) => !p.draft).map((p) => p.name)"
      label="Policy"
      width="160"
    />
    <VSelect v-model="wish.pool" :items="pools" label="Pool" width="190" />
    <VSelect v-model="wish.binding" :items="BINDING" label="Its volume is made" width="150" />
    <VSelect v-model="wish.reclaim" :items="RECLAIM" label="With its claim it" width="150" />
    <VSelect v-model="wish.file_system" :items="SYSTEMS" label="File system" width="170" />
    <VTextField
      v-model="wish.mount_options"
      label="Mount options, with commas"
      placeholder="noatime"
      width="200"
    />
    <VCheckbox v-model="wish.expands" label="claims may grow" />
    <VCheckbox v-model="wish.default" label="for claims that name no class" />
  </template>
</template>
