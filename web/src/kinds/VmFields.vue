<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import { usePolicies, useReadDescriptor } from "../api/client";
import { say } from "../lib/format";
import FilePick from "../parts/FilePick.vue";
import ProblemNote from "../parts/ProblemNote.vue";
import { usePlaces } from "./choices";
import { useSheet, type Wish } from "./kind";

/** What a VM is to have: typed, or as a descriptor of it says. Each disk may go by a policy of its own. */
const params = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const { data: policies } = usePolicies();
interface Disk {
  name: string;
  size: string;
  policy: string;
  image: string;
}
const disk = (size: string, name = "", image = ""): Disk => ({ name, size, policy: "", image });
const wish = reactive({
  name: "",
  cpus: "2",
  memory: "4 GiB",
  policy: asked("policy"),
  pool: "",
  disks: [disk("40 GiB")],
});
const written = computed(() => (policies.value ?? []).filter((p) => !p.draft).map((p) => p.name));
const byPolicy = computed(() => [
  { title: "none: as its pool usually is", value: "" },
  ...written.value.map((name) => ({ title: name, value: name })),
]);
const own = computed(() => [
  { title: "that of the VM", value: "" },
  ...written.value.map((name) => ({ title: name, value: name })),
]);
const pools = usePlaces(() => wish.policy);
watch(
  () => wish.policy,
  (now) => (wish.pool = now ? "" : (barn.value?.pools[0]?.name ?? "")),
  { immediate: true },
);
const reader = useReadDescriptor();
async function load(files: File[]) {
  const text = await files[0]?.text();
  if (!text) return;
  const found = await reader.mutateAsync(text).catch(() => null);
  if (!found) return;
  wish.name = found.name || wish.name;
  if (found.cpus) wish.cpus = String(found.cpus);
  if (found.memory) wish.memory = found.memory;
  wish.disks = found.disks.map((d) => disk(d.size, d.name, d.image));
}
/** Files that disks were to begin as: their content is not part of a descriptor. */
const images = computed(() => wish.disks.map((d) => d.image).filter(Boolean));
watch(
  wish,
  () => {
    const { cpus, disks, ...said } = wish;
    const each = disks.map(({ name, size, policy }) => ({ name, size, policy }));
    params.value = { ...said, cpus: Number(cpus) || 0, disks: each };
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <VTextField v-model="wish.name" label="Name of the VM" v-first maxlength="80" width="180" />
  <VTextField v-model="wish.cpus" type="number" min="1" label="Processors" width="100" />
  <VTextField v-model="wish.memory" label="Memory, such as 8 GiB" width="160" />
  <VSelect v-model="wish.policy" :items="byPolicy" label="Policy" width="190" />
  <VSelect v-model="wish.pool" :items="pools" label="Pool" width="170" />
  <FilePick label="Load a descriptor (.ovf)" name="Load a descriptor" accept=".ovf,text/xml" @pick="load" />
  <ProblemNote class="wide" :error="reader.error.value" />
  <fieldset class="wide disks">
    <legend class="small">
      Its disks<template v-if="images.length">
        . They begin empty: what is in {{ say(images) }} is written to them from the VM.</template
      >
    </legend>
    <div v-for="(d, i) in wish.disks" :key="i" class="disk">
      <VTextField v-model="d.size" :label="`Size of disk ${i + 1}`" width="130" />
      <VTextField
        v-model="d.name"
        :label="`What disk ${i + 1} is called there`"
        maxlength="200"
        width="200"
      />
      <VSelect
        v-if="written.length"
        v-model="d.policy"
        :items="own"
        :label="`Policy of disk ${i + 1}`"
        width="190"
      />
      <VBtn
        v-if="wish.disks.length > 1"
        class="act"
        :aria-label="`Leave disk ${i + 1} out`"
        @click="wish.disks.splice(i, 1)"
        >Leave it out</VBtn
      >
    </div>
    <VBtn class="act" @click="wish.disks.push(disk('40 GiB'))">Add a disk</VBtn>
  </fieldset>
</template>

<style scoped>
.wide {
  flex-basis: 100%;
}
.disks {
  border: 0;
  padding: 0;
  margin: 0;
}
.disks legend {
  padding: 0;
}
.disk {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 8px 12px;
  padding: 4px 0;
}
</style>
