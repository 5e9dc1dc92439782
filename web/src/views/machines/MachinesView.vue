<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useMachines, type DiskFacts, type NodeFacts } from "../../api/client";
import { count } from "../../lib/format";
import { natural } from "../../lib/natural";
import { pathOf } from "../../lib/paths";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import { DISK_COLUMNS, NODE_COLUMNS, type Column } from "./columns";
import FactsTable from "./FactsTable.vue";
import MachineTabs from "./MachineTabs.vue";

/**
 * Every disk, or every node, with all that is known of it in columns one can choose. The filter and what is
 * shown stand in the address.
 */
const { data: machines, error } = useMachines();
const route = useRoute();
const router = useRouter();
const what = computed(() => (route.query.show === "nodes" ? "nodes" : "disks"));
const wanted = computed({
  get: () => (typeof route.query.with === "string" ? route.query.with : ""),
  set: (text) => void router.replace({ query: { ...route.query, with: text || undefined } }),
});
const choosing = ref(false);
const kept = JSON.parse(localStorage.getItem("columns") ?? "{}") as Record<string, string[]>;
const chosen = ref<Record<string, string[]>>({
  disks: kept.disks ?? DISK_COLUMNS.filter((c) => c.usual).map((c) => c.id),
  nodes: kept.nodes ?? NODE_COLUMNS.filter((c) => c.usual).map((c) => c.id),
});
watch(chosen, (now) => localStorage.setItem("columns", JSON.stringify(now)), { deep: true });
const shown = <T,>(all: Column<T>[], which: string) => all.filter((c) => chosen.value[which]!.includes(c.id));

/** Filtering looks at one lower-case text per row, made once when the site changes. */
const disks = computed(() => {
  const rows = [...(machines.value?.disks ?? [])].sort((a, b) => natural(a.name, b.name));
  return rows.map((row) => ({
    row,
    text: `${DISK_COLUMNS.map((c) => c.text(row)).join(" ")} ${row.lamp}`.toLowerCase(),
  }));
});
const nodes = computed(() => {
  const rows = [...(machines.value?.nodes ?? [])].sort((a, b) => natural(a.name, b.name));
  return rows.map((row) => ({
    row,
    text: NODE_COLUMNS.map((c) => c.text(row))
      .join(" ")
      .toLowerCase(),
  }));
});
function having<T>(rows: { row: T; text: string }[]): T[] {
  const words = wanted.value.toLowerCase().split(/\s+/).filter(Boolean);
  return (words.length ? rows.filter((r) => words.every((w) => r.text.includes(w))) : rows).map((r) => r.row);
}
const diskRows = computed(() => having(disks.value));
const nodeRows = computed(() => having(nodes.value));
const awaited = computed(() => machines.value?.nodes.filter((n) => n.contact === "awaited").length ?? 0);
const openDisk = (d: DiskFacts) => router.push(pathOf("disk", d.name));
const openNode = (n: NodeFacts) => router.push(pathOf("node", n.name));
const show = (which: string) =>
  router.replace({ query: { ...route.query, show: which === "nodes" ? "nodes" : undefined } });
</script>

<template>
  <main class="page list">
    <div class="headline">
      <h1>Machines</h1>
      <MachineTabs />
      <span class="grow" />
      <span class="lens" role="group" aria-label="Show">
        <VBtn :aria-pressed="what === 'disks'" @click="show('disks')">Disks</VBtn>
        <VBtn :aria-pressed="what === 'nodes'" @click="show('nodes')">Nodes</VBtn>
      </span>
      <VTextField
        v-model="wanted"
        placeholder="Show only, such as ssd unfit"
        aria-label="Show only rows with"
        width="230"
      />
      <VMenu v-model="choosing" :close-on-content-click="false" location="bottom end" transition="none">
        <template #activator="{ props }"><VBtn v-bind="props" class="btn plain">Columns</VBtn></template>
        <fieldset class="pick">
          <legend>Columns of {{ what }}</legend>
          <VCheckbox
            v-for="c in what === 'nodes' ? NODE_COLUMNS : DISK_COLUMNS"
            :key="c.id"
            v-model="chosen[what]"
            :value="c.id"
            :label="c.name"
            :disabled="c.id === 'name'"
          />
        </fieldset>
      </VMenu>
    </div>
    <ProblemNote :error="error" />
    <p v-if="!machines && !error" class="empty">Reading the machines …</p>
    <template v-if="machines">
      <p class="small tally">
        {{ count(machines.nodes.length, "node") }}, {{ count(machines.disks.length, "disk") }}, as their
        agents reported them<template v-if="awaited"
          >; {{ count(awaited, "node") }} known from a description only, and awaited</template
        ><template v-if="wanted"
          >; {{ (what === "nodes" ? nodeRows : diskRows).length.toLocaleString("en") }} have “{{
            wanted
          }}”</template
        >.
      </p>
      <p v-if="!machines.nodes.length" class="empty">
        No node is known yet. <RouterLink class="act" to="/intake">Take in machines</RouterLink>
      </p>
      <FactsTable
        v-else-if="what === 'disks'"
        :rows="diskRows"
        :columns="shown(DISK_COLUMNS, 'disks')"
        label="Disks"
        @open="openDisk"
      >
        <template #node="{ row }"
          ><RouterLink :to="pathOf('node', row.node)" tabindex="-1" @click.stop>{{
            row.node
          }}</RouterLink></template
        >
        <template #state="{ row }"
          ><StateMark :lamp="row.lamp" word />
          <span v-if="row.lamp !== 'sound'" class="soft besides">{{ row.state }}</span></template
        >
      </FactsTable>
      <FactsTable
        v-else
        :rows="nodeRows"
        :columns="shown(NODE_COLUMNS, 'nodes')"
        label="Nodes"
        @open="openNode"
      >
        <template #state="{ row }"
          ><StateMark :lamp="row.state.lamp" word />
          <span v-if="row.state.lamp !== 'sound'" class="soft besides">{{ row.state.reason }}</span></template
        >
      </FactsTable>
      <p
        v-if="machines.nodes.length && wanted && !(what === 'nodes' ? nodeRows : diskRows).length"
        class="empty"
      >
        Nothing has “{{ wanted }}” in any column.
        <VBtn class="act" @click="wanted = ''">Show all</VBtn>
      </p>
    </template>
  </main>
</template>

<style scoped>
.list {
  display: flex;
  flex-direction: column;
  overflow: hidden;
}
.headline {
  flex: none;
}
.tally {
  flex: none;
  padding-bottom: 6px;
}
.pick {
  background: var(--sheet);
  border: 1px solid var(--ink);
  box-shadow: var(--lift);
  padding: 8px 14px 12px;
  display: flex;
  flex-direction: column;
  gap: 0;
  font-size: var(--t-s);
}
.pick legend {
  font-weight: 640;
  padding: 8px 0 0;
  float: left;
}
.besides {
  margin-left: 8px;
}
</style>
