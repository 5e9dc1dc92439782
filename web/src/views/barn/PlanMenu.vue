<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import type { Pool } from "../../api/client";

/**
 * The one filled button: what can be changed. Each choice opens a preview first. first: what concerns the
 * page it stands on.
 */
const props = defineProps<{ pools: Pool[]; first?: Deed[] }>();
interface Deed {
  kind: string;
  title: string;
  about: string;
  more?: Record<string, string>;
}
const deeds = computed<Deed[]>(() => [
  ...(props.first ?? []),
  { kind: "form-pool", title: "Preview a pool", about: "from fit disks of chosen nodes" },
  { kind: "create-volume", title: "Preview a volume", about: "copies spread over racks" },
  {
    kind: "retire",
    title: "Preview retiring disks, a node or a rack",
    about: "emptied first, protection kept",
  },
  ...props.pools.map((p) => ({
    kind: "rebuild",
    title: `Preview levelling ${p.name}`,
    about: "rebuild what is lost, even out its disks",
    more: { pool: p.name },
  })),
]);
const router = useRouter();
const route = useRoute();
const plan = (kind: string, more: Record<string, string> = {}) =>
  router.push({ query: { ...route.query, plan: kind, ...more } });
</script>

<template>
  <VMenu location="bottom end" content-class="menu">
    <template #activator="{ props }"><VBtn v-bind="props" class="btn">Plan a change</VBtn></template>
    <VList role="menu">
      <VListItem
        v-for="d in deeds"
        :key="d.title"
        role="menuitem"
        tabindex="0"
        :disabled="d.kind !== 'form-pool' && !pools.length"
        :title="d.title"
        :subtitle="d.kind !== 'form-pool' && !pools.length ? 'needs a pool first' : d.about"
        @click="plan(d.kind, d.more)"
      />
    </VList>
  </VMenu>
</template>
