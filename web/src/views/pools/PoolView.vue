<script setup lang="ts">
import { computed } from "vue";
import { useRouter } from "vue-router";
import { useBarn } from "../../api/client";
import { count, percent, size, terabytes } from "../../lib/format";
import BarnMap from "../../parts/BarnMap.vue";
import CopyName from "../../parts/CopyName.vue";
import LedgerTable from "../../parts/LedgerTable.vue";
import LineageCards from "../../parts/LineageCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import { pathOf } from "../../lib/paths";
import PlanMenu from "../barn/PlanMenu.vue";

const props = defineProps<{ name: string }>();
const { data: barn, error } = useBarn();
const router = useRouter();
const pool = computed(() => barn.value?.pools.find((p) => p.name.toLowerCase() === props.name.toLowerCase()));
const disks = computed(() => (barn.value?.rooms ?? []).flatMap((r) => r.racks.flatMap((k) => k.nodes.flatMap((n) => n.disks))).filter((d) => d.pool === pool.value?.name));
const lit = computed(() => Object.fromEntries(disks.value.map((d) => [d.name, d.used_bytes])));
const volumes = computed(() => barn.value?.volumes.filter((v) => v.pool === pool.value?.name) ?? []);
const cards = computed(() => {
  const p = pool.value!;
  const first = volumes.value[0];
  return [
    { kind: "Volumes", name: first ? `${first.name}${volumes.value.length > 1 ? ` and ${volumes.value.length - 1} more` : ""}` : "none yet", fact: first ? `${size(volumes.value.reduce((s, v) => s + v.size_bytes, 0))} in all` : "", lamp: p.worst.lamp, to: first && volumes.value.length === 1 ? pathOf("volume", first.name) : "/volumes" },
    { kind: "Pool", name: p.name, fact: `${percent(p.full)} full, ${size(p.free.value)} free`, lamp: p.state.lamp, to: pathOf("pool", p.name), here: true },
    { kind: "Nodes and disks", name: `${count(p.nodes.length, "node")}, ${count(p.disks, "disk")}`, fact: p.nodes.join(", "), lamp: p.worst.lamp, to: "/machines" },
  ];
});
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="pool && barn">
      <div class="headline">
        <h1><StateMark :lamp="pool.worst.lamp" /> {{ pool.name }} <CopyName :name="pool.name" /></h1>
        <p>{{ pool.worst.reason }}</p><span class="grow" />
        <RouterLink class="act" :to="{ query: { plan: 'delete-pool', pool: pool.name } }">Preview deleting it</RouterLink>
        <RouterLink class="act" :to="{ query: { plan: 'grow-pool', pool: pool.name } }">Preview adding disks</RouterLink>
        <RouterLink class="act" data-offered :to="{ query: { plan: 'rebuild', pool: pool.name } }">Preview levelling</RouterLink>
        <PlanMenu :pools="[pool]" />
      </div>
      <LineageCards :cards="cards" />
      <div class="upper">
        <section aria-label="Barn map">
          <div class="sec"><h2>Where it lies</h2><span class="small">Blue is what its volumes take of each disk. The rest is dimmed.</span></div>
          <BarnMap line :rooms="barn.rooms" :lit="lit" @open="(d) => router.push(pathOf('disk', d.name))" @open-node="(n) => router.push(pathOf('node', n.name))" @unlight="router.push('/')" />
        </section>
        <section aria-label="Domains">
          <div class="sec"><h2>Domains</h2><span class="small">by {{ pool.level }}, TB</span></div>
          <table class="plain">
            <thead><tr><th>{{ pool.level }}</th><th class="n">Room</th><th class="n">Used</th><th class="n">Stranded</th></tr></thead>
            <tbody><tr v-for="d in pool.domains" :key="d.name"><td>{{ d.name }}</td><td class="n">{{ terabytes(d.room) }}</td><td class="n">{{ terabytes(d.used) }}</td><td class="n">{{ d.stranded ? terabytes(d.stranded) : "" }}</td></tr></tbody>
          </table>
          <p class="say">{{ pool.healing }}</p>
          <p class="say soft">Usual protection: {{ pool.protection }}. The furthest disk is {{ percent(pool.imbalance) }} off what it should hold.</p>
        </section>
      </div>
      <section aria-label="Where it went"><div class="sec"><h2>Where it went</h2><span class="small">Fill line {{ percent(pool.fill_line) }}</span></div><LedgerTable :ledgers="[pool.ledger]" :free="[pool.free]" /></section>
    </template>
    <p v-else-if="barn" class="empty">There is no pool named {{ name }}. <RouterLink class="act" to="/pools">All pools</RouterLink></p>
  </main>
</template>

<style scoped>
.upper { display: grid; grid-template-columns: minmax(0, 1fr) 340px; gap: 26px; padding: 10px 0; }
.say { font-size: var(--t-s); padding-top: 8px; }
</style>
