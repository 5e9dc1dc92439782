<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { useConsumers, usePolicies } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** What a namespace may have of a policy; where it was granted already, as it is at first. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const { data } = useConsumers();
const { data: policies } = usePolicies();
const wish = reactive({
  orchestrator: asked("orchestrator"),
  namespace: asked("namespace"),
  policy: asked("policy"),
  size: "",
  claims: "",
  size_a_claim: "",
});
const limits = reactive<Record<string, { size: string; claims: string }>>({});
const orchestrators = computed(() => data.value?.orchestrators.map((o) => o.name) ?? []);
const spaces = computed(
  () => data.value?.namespaces.filter((n) => n.orchestrator === wish.orchestrator).map((n) => n.name) ?? [],
);
const classes = computed(
  () => data.value?.classes.filter((c) => c.policy === wish.policy).map((c) => c.name) ?? [],
);
const old = computed(() =>
  data.value?.namespaces
    .find((n) => n.orchestrator === wish.orchestrator && n.name === wish.namespace)
    ?.grants.find((g) => g.policy === wish.policy),
);
const typed = (bytes: number | null) => {
  if (bytes === null) return "";
  const units = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"];
  let [value, unit] = [bytes, 0];
  while (value && value % 1024 === 0 && unit < units.length - 1) [value, unit] = [value / 1024, unit + 1];
  return `${value} ${units[unit]}`;
};
const number = (text: string) => (text.trim() === "" ? null : Number(text));
watch(
  orchestrators,
  (now) => {
    if (!wish.orchestrator) wish.orchestrator = now[0] ?? "";
  },
  { immediate: true },
);
const beside = ref(false);
const filled = ref("");
watch(
  old,
  (now) => {
    const which = `${wish.orchestrator}/${wish.namespace}/${wish.policy}`;
    if (!now || filled.value === which) return;
    filled.value = which;
    Object.assign(wish, {
      size: typed(now.bytes),
      claims: now.claims === null ? "" : String(now.claims),
      size_a_claim: typed(now.bytes_a_claim),
    });
    beside.value = now.by_class.length > 0;
    for (const one of now.by_class)
      limits[one.name] = { size: typed(one.bytes), claims: one.claims === null ? "" : String(one.claims) };
  },
  { immediate: true },
);
watch(
  [classes, beside],
  () => {
    for (const name of classes.value) limits[name] ??= { size: "", claims: "" };
  },
  { immediate: true },
);
watch(
  [wish, limits, classes],
  () => {
    const by_class = classes.value
      .map((name) => ({ name, size: limits[name]?.size ?? "", claims: number(limits[name]?.claims ?? "") }))
      .filter((one) => one.size.trim() || one.claims !== null);
    params.value = { ...wish, claims: number(wish.claims), by_class };
  },
  { immediate: true, deep: true },
);
</script>

<template>
  <VSelect
    v-if="orchestrators.length > 1"
    v-model="wish.orchestrator"
    :items="orchestrators"
    label="Orchestrator"
    width="150"
  />
  <VCombobox v-model="wish.namespace" :items="spaces" label="Namespace" v-first width="180" />
  <VSelect
    v-model="wish.policy"
    :items="(policies ?? []).filter((p) => !p.draft).map((p) => p.name)"
    label="Policy"
    width="160"
  />
  <VTextField v-model="wish.size" label="In all, such as 2 TiB" placeholder="no limit" width="150" />
  <VTextField v-model="wish.claims" type="number" min="0" label="Claims" placeholder="no limit" width="100" />
  <VTextField v-model="wish.size_a_claim" label="One claim at most" placeholder="no limit" width="140" />
  <VCheckbox v-if="classes.length > 1" v-model="beside" label="limits of each class beside that" />
  <template v-if="beside">
    <template v-for="name in classes" :key="name">
      <VTextField
        v-if="limits[name]"
        v-model="limits[name].size"
        :label="`Of ${name}, in all`"
        placeholder="no limit"
        width="170"
      />
      <VTextField
        v-if="limits[name]"
        v-model="limits[name].claims"
        type="number"
        min="0"
        :label="`Claims of ${name}`"
        placeholder="no limit"
        width="150"
      />
    </template>
  </template>
</template>
