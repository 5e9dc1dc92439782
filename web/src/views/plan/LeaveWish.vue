<script setup lang="ts">
import { computed, reactive, watch } from "vue";
import { useRoute } from "vue-router";
import { useBarn } from "../../api/client";
import { natural } from "../../lib/natural";

/** What is to leave a pool, be replaced, or get another role. What the address names is filled in. */
const props = defineProps<{ kind: string }>();
const params = defineModel<Record<string, unknown>>({ required: true });
const { data: barn } = useBarn();
const route = useRoute();
const query = (name: string) => (typeof route.query[name] === "string" ? (route.query[name] as string) : "");
const named = (name: string) => query(name).split(",").filter(Boolean);
const start = query("disk") ? "disk" : query("rack") ? "rack" : "node";
const wish = reactive({
  what: start as "disk" | "node" | "rack",
  names: new Set(named(start)),
  by: "",
  role: "spare",
  reason: "",
});
const racks = computed(() => (barn.value?.rooms ?? []).flatMap((r) => r.racks));
const nodes = computed(() => racks.value.flatMap((k) => k.nodes));
const disks = computed(() => nodes.value.flatMap((n) => n.disks));
const old = computed(() => disks.value.find((d) => d.name === query("disk")));
const fit = computed(() =>
  disks.value
    .filter((d) => d.fit && d.state.lamp !== "not heard" && d.state.lamp !== "failed")
    .sort(
      (a, b) =>
        Number(b.media === old.value?.media) - Number(a.media === old.value?.media) ||
        natural(a.name, b.name),
    ),
);
const choices = computed(() => {
  const inUse = (names: { name: string; disks: { pool: string | null }[] }[]) =>
    names.filter((n) => n.disks.some((d) => d.pool)).map((n) => n.name);
  if (wish.what === "rack")
    return inUse(racks.value.map((k) => ({ name: k.name, disks: k.nodes.flatMap((n) => n.disks) }))).sort(
      natural,
    );
  if (wish.what === "node") return inUse(nodes.value).sort(natural);
  return disks.value
    .filter((d) => d.pool)
    .map((d) => d.name)
    .sort(natural);
});
watch(
  [wish, () => props.kind],
  () => {
    const names = [...wish.names].sort(natural);
    if (props.kind === "retire") params.value = { what: wish.what, names: names.length ? names : [""] };
    else if (props.kind === "replace-disk") params.value = { disk: query("disk"), by: wish.by };
    else params.value = { disks: named("disk"), role: wish.role, reason: wish.reason };
  },
  { immediate: true, deep: true },
);
function turn(what: "disk" | "node" | "rack") {
  wish.what = what;
  wish.names = new Set();
}
const toggle = (name: string) => void (wish.names.delete(name) || wish.names.add(name));
</script>

<template>
  <form class="wish" @submit.prevent>
    <template v-if="kind === 'retire'">
      <label class="field"
        >Retire a<select
          :value="wish.what"
          aria-label="What to retire"
          @change="turn(($event.target as HTMLSelectElement).value as 'disk')"
        >
          <option v-for="w in ['disk', 'node', 'rack']" :key="w">{{ w }}</option>
        </select></label
      >
      <div class="field">
        Which<span class="chips"
          ><button
            v-for="c in choices"
            :key="c"
            type="button"
            class="chip"
            :aria-pressed="wish.names.has(c)"
            @click="toggle(c)"
          >
            {{ c }}
          </button></span
        >
      </div>
    </template>
    <label v-else-if="kind === 'replace-disk'" class="field"
      >By<select v-model="wish.by" autofocus aria-label="Replace by">
        <option value="">choose a fit disk</option>
        <option v-for="d in fit" :key="d.name" :value="d.name">
          {{ d.name }}, {{ d.media.toUpperCase() }} {{ (d.size_bytes / 1e12).toFixed(2) }} TB
        </option>
      </select></label
    >
    <template v-else>
      <label class="field"
        >Make it<select v-model="wish.role" aria-label="Role">
          <option v-for="r in ['capacity', 'cache', 'spare']" :key="r">{{ r }}</option>
        </select></label
      >
      <label class="field why"
        >Because<input
          v-model="wish.reason"
          autocomplete="off"
          maxlength="300"
          aria-label="Reason"
          placeholder="where the rule says otherwise"
      /></label>
    </template>
  </form>
</template>

<style scoped>
.wish {
  display: flex;
  flex-wrap: wrap;
  gap: 14px;
  padding-bottom: 8px;
  align-items: end;
}
.why input {
  width: 360px;
}
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  max-height: 86px;
  overflow: auto;
}
.chip {
  border: 1px solid var(--edge);
  border-radius: 3px;
  padding: 2px 8px;
  font-size: var(--t-s);
  background: var(--paper);
  color: var(--ink);
}
.chip[aria-pressed="true"] {
  background: var(--slate);
  color: var(--on-slate);
  border-color: var(--slate);
}
</style>
