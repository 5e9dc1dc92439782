<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import type { Barn, Preview } from "../../api/client";
import { everyEffect } from "../../lib/effects";
import { natural } from "../../lib/natural";
import RoleTable from "../../parts/RoleTable.vue";
import DiskChooser from "./DiskChooser.vue";
import SettingsFields from "./SettingsFields.vue";

/** What a pool is wished to be: its disks, their roles where the rule is not wanted, and its settings. */
const props = defineProps<{ barn: Barn; preview: Preview | null }>();
const roles = computed(() => everyEffect(props.preview, "roles").flatMap((e) => e.rows));
const params = defineModel<Record<string, unknown>>({ required: true });
const chosen = defineModel<Set<string>>("chosen", { required: true });
const wish = reactive({ name: "", serves: "cache", extent_bytes: 2 ** 30, encrypted: false });
const settings = ref<Record<string, number | string | null>>({
  copies: 3,
  level: "rack",
  headroom: "node",
  headroom_losses: 1,
  fill_line: 0.85,
  allocation_bytes: 2 ** 20,
  overcommit_cap: 1,
  rebuild_rate: 0,
  level_rate: 0,
  priority: "consumers",
  daily_writes: 0,
});
const overrides = ref<Record<string, { role: string; reason: string }>>({});
const more = ref(false);
watch(
  [wish, settings, overrides, chosen],
  () => {
    const kept = Object.fromEntries(
      Object.entries(overrides.value).filter(([disk]) => chosen.value.has(disk)),
    );
    params.value = { ...settings.value, ...wish, overrides: kept, disks: [...chosen.value].sort(natural) };
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
function because(event: Event) {
  const reason = (event.target as HTMLInputElement).value;
  overrides.value = Object.fromEntries(
    Object.entries(overrides.value).map(([disk, o]) => [disk, { ...o, reason }]),
  );
}
</script>

<template>
  <form class="wish" @submit.prevent>
    <label class="field"
      >Name<input
        v-model="wish.name"
        autofocus
        maxlength="80"
        autocomplete="off"
        aria-label="Name of the pool"
    /></label>
    <SettingsFields v-if="more" v-model="settings" />
    <template v-else>
      <label class="field"
        >Copies<select v-model.number="settings.copies" aria-label="Usual copies">
          <option v-for="n in 5" :key="n" :value="n">{{ n }}</option>
        </select></label
      >
      <label class="field"
        >Each in another<select v-model="settings.level" aria-label="Spread over">
          <option v-for="l in ['room', 'rack', 'node', 'disk']" :key="l">{{ l }}</option>
        </select></label
      >
    </template>
    <label class="field"
      >The fastest class serves as<select v-model="wish.serves" aria-label="The fastest class serves as">
        <option>cache</option>
        <option>fast tier</option>
        <option>capacity</option>
      </select></label
    >
    <template v-if="more">
      <label class="field"
        >Extent<select v-model.number="wish.extent_bytes" aria-label="Extent">
          <option v-for="n in [28, 30, 32, 34]" :key="n" :value="2 ** n">
            {{ 2 ** (n - 20) < 1024 ? `${2 ** (n - 20)} MiB` : `${2 ** (n - 30)} GiB` }}
          </option>
        </select></label
      >
      <label class="check"><input v-model="wish.encrypted" type="checkbox" /> Encrypt what it holds</label>
    </template>
    <button type="button" class="act" @click="more = !more">
      {{ more ? "Fewer settings" : "All settings" }}
    </button>
  </form>
  <DiskChooser v-model:chosen="chosen" :barn="barn" />
  <details v-if="roles.length" class="roles" :open="roles.some((r) => r.role !== 'capacity' || r.overridden)">
    <summary>Roles by rule, and other ones where you have a reason</summary>
    <RoleTable :roles="roles" choosing @choose="choose" />
    <label v-if="Object.keys(overrides).length" class="field because"
      >Because<input
        :value="reasons()[0]"
        maxlength="300"
        autocomplete="off"
        aria-label="Reason for other roles"
        style="width: 420px"
        @input="because"
    /></label>
  </details>
</template>

<style scoped>
.wish {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 14px;
  padding-bottom: 6px;
  align-items: end;
}
.check {
  font-size: var(--t-m);
  display: flex;
  gap: 8px;
  align-items: center;
  height: 30px;
}
.roles {
  padding-bottom: 8px;
  max-height: 220px;
  overflow: auto;
}
.because {
  display: flex;
  padding-top: 4px;
}
summary {
  cursor: pointer;
  font-size: var(--t-s);
  font-weight: 600;
}
</style>
