<script setup lang="ts">
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useBarn } from "../api/client";
import { natural } from "../lib/natural";
import { pathOf } from "../lib/paths";

/** Finds any node, disk, pool or volume by a part of its name. */
const { data: barn } = useBarn();
const router = useRouter();
const text = ref("");
const at = ref(0);
const focused = ref(false);
const things = computed(() => {
  const site = barn.value;
  if (!site) return [];
  const nodes = site.rooms.flatMap((r) => r.racks.flatMap((k) => k.nodes));
  return [
    ...site.volumes.map((v) => ({ kind: "volume", name: v.name })),
    ...site.pools.map((p) => ({ kind: "pool", name: p.name })),
    ...nodes.map((n) => ({ kind: "node", name: n.name })),
    ...nodes.flatMap((n) => n.disks.map((d) => ({ kind: "disk", name: d.name }))),
  ];
});
const found = computed(() => {
  const wanted = text.value.trim().toLowerCase();
  if (!wanted) return [];
  const start = (name: string) => (name.toLowerCase().startsWith(wanted) ? 0 : 1);
  return things.value
    .filter((t) => t.name.toLowerCase().includes(wanted))
    .sort((a, b) => start(a.name) - start(b.name) || natural(a.name, b.name))
    .slice(0, 9);
});
function go(index: number) {
  const thing = found.value[index];
  if (!thing) return;
  text.value = "";
  (document.activeElement as HTMLElement | null)?.blur();
  void router.push(pathOf(thing.kind, thing.name));
}
function onKey(event: KeyboardEvent) {
  if (event.key === "ArrowDown") at.value = Math.min(at.value + 1, found.value.length - 1);
  else if (event.key === "ArrowUp") at.value = Math.max(at.value - 1, 0);
  else if (event.key === "Enter") go(at.value);
  else if (event.key === "Escape") {
    text.value = "";
    (event.target as HTMLElement).blur();
  } else return;
  event.preventDefault();
}
</script>

<template>
  <div class="find">
    <VTextField
      v-model="text"
      placeholder="Find a disk, volume, node"
      aria-label="Find a disk, volume or node"
      role="combobox"
      aria-autocomplete="list"
      aria-controls="found"
      :aria-expanded="focused && found.length > 0"
      :aria-activedescendant="found.length ? `found-${at}` : undefined"
      autocomplete="off"
      @update:model-value="at = 0"
      @keydown="onKey"
      @focus="focused = true"
      @blur="focused = false"
      ><template #append-inner><kbd>/</kbd></template></VTextField
    >
    <ul v-if="focused && text.trim()" id="found" role="listbox">
      <li
        v-for="(thing, i) in found"
        :id="`found-${i}`"
        :key="thing.kind + thing.name"
        role="option"
        :aria-selected="i === at"
        @mousedown.prevent="go(i)"
        @mousemove="at = i"
      >
        <b>{{ thing.name }}</b><span>{{ thing.kind }}</span>
      </li>
      <li v-if="!found.length" class="none" role="option" aria-selected="false">
        Nothing has that in its name.
      </li>
    </ul>
  </div>
</template>

<style scoped>
.find {
  position: relative;
  align-self: center;
  width: 220px;
  margin-left: 8px;
}
ul {
  position: absolute;
  z-index: 20;
  left: -1px;
  right: -1px;
  top: 32px;
  background: var(--sheet);
  border: 1px solid var(--ink);
  box-shadow: var(--lift);
}
li {
  display: flex;
  justify-content: space-between;
  padding: 4px 10px;
  cursor: pointer;
}
li span {
  color: var(--soft);
  font-size: var(--t-xs);
}
li[aria-selected="true"] {
  background: var(--slate-pale);
}
li.none {
  color: var(--soft);
  background: none;
}
</style>
