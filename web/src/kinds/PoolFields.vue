<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { useChoices } from "./choices";
import { everyEffect } from "../lib/effects";
import { binarySize } from "../lib/format";
import { natural } from "../lib/natural";
import RoleTable from "../parts/RoleTable.vue";
import DiskChooser from "./DiskChooser.vue";
import { useSheet, type Wish, type Settings } from "./kind";
import SettingsFields from "./SettingsFields.vue";

/** What a pool is wished to be: its disks, their roles where the rule is not wanted, and its settings. */
const params = defineModel<Wish>({ required: true });
const { preview, chosen, below } = useSheet();
const { defaults, copies, levels } = useChoices();
const name = ref("");
const EXTENTS = [28, 30, 32, 34].map((n) => ({ title: binarySize(2 ** n), value: 2 ** n }));
const units = computed(() =>
  (defaults.value?.compress_units ?? []).map((value) => ({
    title: value ? `in units of ${binarySize(value)}` : "no",
    value,
  })),
);
const SERVES = ["cache", "fast tier", "capacity"];
type Own = Omit<NonNullable<typeof defaults.value>["pool"], "name" | "disks" | "overrides">;
const own = reactive<Partial<Own>>({}); // what is set otherwise than it is by default
const wish = computed(() => ({ ...defaults.value?.pool, ...own }));
const settings = computed({
  get: () => wish.value as unknown as Settings,
  set: (now) => void Object.assign(own, now),
});
const overrides = ref<Record<string, { role: string; reason: string }>>({});
const roles = computed(() => everyEffect(preview.value, "roles").flatMap((e) => e.rows));
const more = ref(false);
const rolesOpen = ref<number>();
watch(
  () => roles.value.some((r) => r.role !== "capacity" || r.overridden),
  (some) => some && (rolesOpen.value = 0),
);
watch(
  [name, wish, overrides, chosen],
  () => {
    const kept = Object.fromEntries(
      Object.entries(overrides.value).filter(([disk]) => chosen.value.has(disk)),
    );
    params.value = {
      ...wish.value,
      name: name.value,
      overrides: kept,
      disks: [...chosen.value].sort(natural),
    };
  },
  { immediate: true, deep: true },
);
function choose(disks: string[], role: string) {
  const next = { ...overrides.value };
  for (const disk of disks) {
    if (roles.value.find((r) => r.disk === disk)?.by_rule === role) delete next[disk];
    else next[disk] = { role, reason: next[disk]?.reason ?? "" };
  }
  overrides.value = next;
}
const reasons = () => [...new Set(Object.values(overrides.value).map((o) => o.reason))];
function because(reason: string) {
  overrides.value = Object.fromEntries(
    Object.entries(overrides.value).map(([disk, o]) => [disk, { ...o, reason }]),
  );
}
</script>

<template>
  <VTextField v-model="name" label="Name of the pool" v-first maxlength="80" width="220" />
  <SettingsFields v-if="more" v-model="settings" />
  <template v-else>
    <VSelect
      :model-value="wish.copies"
      :items="copies"
      label="Usual copies"
      width="70"
      @update:model-value="(n) => (own.copies = n)"
    />
    <VSelect
      :model-value="wish.level"
      :items="levels"
      label="Spread over"
      width="100"
      @update:model-value="(l) => (own.level = l)"
    />
  </template>
  <VSelect
    :model-value="wish.serves"
    :items="SERVES"
    label="The fastest class serves as"
    width="160"
    @update:model-value="(s) => (own.serves = s)"
  />
  <template v-if="more">
    <VSelect
      :model-value="wish.extent_bytes"
      :items="EXTENTS"
      label="Extent"
      width="104"
      @update:model-value="(n) => (own.extent_bytes = n)"
    />
    <VSelect
      :model-value="wish.compress_unit"
      :items="units"
      label="Compress what it holds"
      width="190"
      @update:model-value="(n) => (own.compress_unit = n)"
    />
    <VCheckbox
      :model-value="wish.encrypted"
      label="Encrypt what it holds"
      @update:model-value="(on) => (own.encrypted = on === true)"
    />
  </template>
  <VBtn class="act" @click="more = !more">{{ more ? "Fewer settings" : "All settings" }}</VBtn>
  <div class="below">
    <DiskChooser />
  </div>
  <Teleport v-if="below && roles.length" :to="below">
    <VExpansionPanels v-model="rolesOpen" class="roles">
      <VExpansionPanel title="Roles by rule, and other ones where you have a reason">
        <template #text>
          <RoleTable :roles="roles" choosing @choose="choose" />
          <VTextField
            v-if="Object.keys(overrides).length"
            :model-value="reasons()[0]"
            label="Reason for other roles"
            maxlength="300"
            width="420"
            @update:model-value="because"
          />
        </template>
      </VExpansionPanel>
    </VExpansionPanels>
  </Teleport>
</template>

<style scoped>
.below {
  flex: 0 0 100%;
}
.roles {
  padding-top: 8px;
}
</style>
