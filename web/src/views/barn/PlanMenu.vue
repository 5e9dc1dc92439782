<script setup lang="ts">
import { useRoute, useRouter } from "vue-router";
import type { Pool } from "../../api/client";

/** The one filled button: what can be changed. Each choice opens a preview first. */
defineProps<{ pools: Pool[] }>();
const router = useRouter();
const route = useRoute();
const plan = (kind: string, more: Record<string, string> = {}) =>
  router.push({ query: { ...route.query, plan: kind, ...more } });
</script>

<template>
  <VMenu location="bottom end" transition="none">
    <template #activator="{ props }"
      ><button v-bind="props" type="button" class="btn">Plan a change</button></template
    >
    <ul class="menu" role="menu">
      <li role="none">
        <button role="menuitem" type="button" @click="plan('form-pool')">
          <b>Preview a pool</b><span>from fit disks of chosen nodes</span>
        </button>
      </li>
      <li role="none">
        <button role="menuitem" type="button" :disabled="!pools.length" @click="plan('create-volume')">
          <b>Preview a volume</b
          ><span>{{ pools.length ? "copies spread over racks" : "needs a pool first" }}</span>
        </button>
      </li>
      <li role="none">
        <button role="menuitem" type="button" :disabled="!pools.length" @click="plan('retire')">
          <b>Preview retiring disks, a node or a rack</b><span>emptied first, protection kept</span>
        </button>
      </li>
      <li v-for="p in pools" :key="p.name" role="none">
        <button role="menuitem" type="button" @click="plan('rebuild', { pool: p.name })">
          <b>Preview levelling {{ p.name }}</b
          ><span>rebuild what is lost, even out its disks</span>
        </button>
      </li>
    </ul>
  </VMenu>
</template>

<style scoped>
.menu {
  background: var(--sheet);
  color: var(--ink);
  border: 1px solid var(--ink);
  box-shadow: var(--lift);
  min-width: 300px;
}
button {
  display: flex;
  flex-direction: column;
  width: 100%;
  padding: 8px 14px;
  font-size: var(--t-s);
}
li + li {
  border-top: 1px solid var(--rule);
}
li button:hover,
li button:focus-visible {
  background: var(--slate-pale);
  outline-offset: -2px;
}
li span {
  color: var(--soft);
}
li button:disabled {
  cursor: not-allowed;
}
li button:disabled b {
  color: var(--faint);
}
.btn {
  display: inline-flex;
  flex-direction: row;
  width: auto;
  padding: 0 14px;
  font-size: var(--t-m);
}
</style>
