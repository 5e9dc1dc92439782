<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import { useAttachments, useHosts, useVolume } from "../api/client";
import { transport } from "../lib/format";
import { natural } from "../lib/natural";
import { useChoices } from "./choices";
import { listed, useSheet, type Wish } from "./kind";
import NameChips from "./NameChips.vue";

/** Which volume, for which hosts, and how they are to use it. */
const params = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const { data: hosts } = useHosts();
const wish = reactive({
  volume: asked("volume"),
  hosts: listed(asked("hosts")),
  read_only: false,
  file_system: "xfs" as string,
  transport: "",
  at: "",
});
const { data: there } = useAttachments(() => wish.volume);
const volumes = computed(() => (barn.value?.volumes ?? []).filter((v) => !v.binned).map((v) => v.name));
/** Groups before their hosts; those that reach it already are no choice. */
const names = computed(() => {
  const attached = new Set((there.value ?? []).map((l) => l.host));
  const free = (hosts.value?.hosts ?? []).filter((h) => !attached.has(h.name));
  const groups = [...new Set(free.map((h) => h.group).filter(Boolean))].sort(natural);
  return [...groups, ...free.map((h) => h.name)];
});
const { defaults } = useChoices();
const systems = computed(() =>
  (defaults.value?.file_systems ?? []).map(({ name, shared }) => ({
    title:
      name === "none"
        ? "none: as a block device"
        : `${name}, ${shared ? "which hosts share" : "for one host"}`,
    value: name,
  })),
);
const transports = computed(() => [
  { title: "as each host can", value: "" },
  ...(defaults.value?.transports ?? []).map((t) => ({ title: transport(t), value: t })),
]);
/** What it is used as already holds for those that come to it; what reads from another carries the same. */
const { data: volume } = useVolume(() => wish.volume);
const origin = computed(() => volume.value?.origin ?? null);
const { data: original } = useAttachments(() => origin.value?.volume ?? "");
const fixed = computed(
  () => there.value?.[0]?.file_system ?? (origin.value ? original.value?.[0]?.file_system : undefined),
);
/** Nobody writes to a snapshot that is shown. */
const shown = computed(() => Boolean(origin.value?.shown));
watch(
  shown,
  (now) => {
    if (now) wish.read_only = true;
  },
  { immediate: true },
);
watch(
  fixed,
  (now) => {
    if (now) wish.file_system = now;
  },
  { immediate: true },
);
watch(
  wish,
  () => {
    const { transport: by, at, ...rest } = wish;
    params.value = {
      ...rest,
      ...(by ? { transport: by } : {}),
      ...(at && wish.file_system !== "none" ? { at } : {}),
    };
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <VAutocomplete v-model="wish.volume" :items="volumes" label="Volume" width="190" />
  <NameChips v-model="wish.hosts" label="Hosts" :names="names" />
  <VSelect
    v-model="wish.file_system"
    :items="systems"
    label="File system on it"
    :disabled="Boolean(fixed)"
    width="200"
  />
  <VTextField
    v-if="wish.file_system !== 'none'"
    v-model="wish.at"
    label="Mounted at"
    :placeholder="wish.volume ? `/srv/${wish.volume.toLowerCase()}` : '/srv/…'"
    width="170"
  />
  <VSelect v-model="wish.transport" :items="transports" label="By" width="150" />
  <VCheckbox v-model="wish.read_only" label="only to read" :disabled="shown" />
</template>
