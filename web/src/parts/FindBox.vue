<script setup lang="ts">
import { computed, onMounted, ref } from "vue";
import { useRouter } from "vue-router";
import { useBarn, useClaims, useHosts, usePolicies, useShares, useVms } from "../api/client";
import { natural } from "../lib/natural";
import { pathOf } from "../lib/paths";

/** Finds any node, disk, pool, volume, policy, host, VM, share or claim by a part of its name. */
const props = defineProps<{ begun: string; now: boolean }>();
const emit = defineEmits<{ ready: [] }>();
const { data: barn } = useBarn();
const { data: policies } = usePolicies();
const { data: hosts } = useHosts();
const { data: vms } = useVms();
const { data: shares } = useShares();
const router = useRouter();
/** What was typed before it had come is not lost. */
const text = ref(props.begun);
onMounted(() => {
  if (props.now) document.querySelector<HTMLInputElement>(".find input")?.focus();
  text.value = props.begun;
  emit("ready");
});
/** Of claims there may be very many: those that are looked for come from the server. */
const { data: claims } = useClaims(() => ({ words: text.value.trim(), per: 9 }));
const things = computed(() => {
  const site = barn.value;
  if (!site) return [];
  const nodes = site.rooms.flatMap((r) => r.racks.flatMap((k) => k.nodes));
  return [
    ...site.volumes.map((v) => ({ kind: "volume", name: v.name })),
    ...site.pools.map((p) => ({ kind: "pool", name: p.name })),
    ...(policies.value ?? []).map((p) => ({ kind: "policy", name: p.name })),
    ...(hosts.value?.hosts ?? []).map((h) => ({ kind: "host", name: h.name })),
    ...(vms.value ?? []).map((v) => ({ kind: "vm", name: v.name })),
    ...(shares.value ?? []).map((s) => ({ kind: "share", name: s.name })),
    ...nodes.map((n) => ({ kind: "node", name: n.name })),
    ...nodes.flatMap((n) => n.disks.map((d) => ({ kind: "disk", name: d.name }))),
  ];
});
const found = computed(() => {
  const wanted = text.value.trim().toLowerCase();
  if (!wanted) return [];
  const start = (name: string) => (name.toLowerCase().startsWith(wanted) ? 0 : 1);
  const asked = (claims.value?.claims ?? []).map((c) => ({
    kind: "claim",
    name: `${c.namespace}/${c.name}`,
    at: String(c.number),
  }));
  return [...things.value, ...asked]
    .filter((t) => t.name.toLowerCase().includes(wanted))
    .sort((a, b) => start(a.name) - start(b.name) || natural(a.name, b.name))
    .slice(0, 9);
});
async function go(thing: unknown) {
  const { kind, name, at } = thing as { kind: string; name: string; at?: string };
  await router.push(pathOf(kind, at ?? name));
  leave();
}
/** The keys are the page's again. */
function leave() {
  text.value = "";
  (document.activeElement as HTMLElement | null)?.blur();
}
</script>

<template>
  <VAutocomplete
    v-model:search="text"
    class="find"
    :model-value="null"
    :items="found"
    :item-value="(thing) => `${thing.kind} ${thing.name}`"
    item-title="name"
    return-object
    no-filter
    auto-select-first
    :hide-no-data="!text.trim()"
    no-data-text="Nothing has that in its name."
    :menu-props="{ contentClass: 'options' }"
    menu-icon=""
    placeholder="Find a disk, volume, node"
    aria-label="Find a disk, volume or node"
    width="220"
    @update:model-value="(thing) => thing && go(thing)"
    @keydown.esc="leave"
  >
    <template #item="{ props: item, internalItem }">
      <VListItem v-bind="item"
        ><template #append
          ><span class="small">{{ internalItem.raw.kind }}</span></template
        ></VListItem
      >
    </template>
    <template #append-inner><kbd>/</kbd></template>
  </VAutocomplete>
</template>

<style scoped>
.find {
  margin-left: 8px;
}
@media (max-width: 1000px) {
  .find {
    width: 150px !important;
  }
}
</style>
