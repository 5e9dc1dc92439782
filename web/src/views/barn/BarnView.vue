<script setup lang="ts">
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn, useWork, type Disk, type Node } from "../../api/client";
import { count, hundredths } from "../../lib/format";
import BarnMap from "../../parts/BarnMap.vue";
import LedgerTable from "../../parts/LedgerTable.vue";
import MapKey from "../../parts/MapKey.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import { pathOf } from "../../lib/paths";
import { useScreen } from "../../screen";
import AttentionList from "./AttentionList.vue";
import StagesBar from "../../parts/StagesBar.vue";
import PlanMenu from "./PlanMenu.vue";

const { data: barn, error, isPending } = useBarn();
const screen = useScreen();
const { data: work } = useWork(() => screen.lens === "work");
const router = useRouter();
const route = useRoute();
const asked = ref("");
const lens = computed(() => (screen.lens === "work" ? addUp() : null));
function addUp() {
  const read = work.value?.read ?? {};
  return Object.fromEntries(
    Object.entries(read).map(([name, r]) => [name, (r ?? 0) + (work.value?.write[name] ?? 0)]),
  );
}
/** The sentence over the ledger says what the ledger prints. */
const cell = (...names: string[]) =>
  hundredths(barn.value!.whole.parts.filter((p) => names.includes(p.name)).reduce((sum, p) => sum + p.tb, 0));
const shown = computed(() => {
  const ledgers = barn.value?.ledgers ?? [];
  return asked.value ? ledgers.filter((l) => l.name === asked.value) : ledgers;
});
const openDisk = (disk: Disk) => router.push(pathOf("disk", disk.name));
const openNode = (node: Node) => router.push(pathOf("node", node.name));
const begin = () => router.push({ query: { ...route.query, plan: "form-pool" } });
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <p v-if="isPending" class="empty">Reading the site …</p>
    <template v-if="barn">
      <div class="headline">
        <h1>{{ barn.headline }}</h1>
        <p>{{ barn.subline }}</p>
        <span class="grow" />
        <p class="small">
          {{ count(barn.counts.nodes, "node") }} &nbsp; {{ count(barn.counts.disks, "disk") }} &nbsp;
          {{ count(barn.counts.pools, "pool") }} &nbsp; {{ count(barn.counts.volumes, "volume") }}
        </p>
        <PlanMenu :pools="barn.pools" />
      </div>
      <StagesBar v-if="barn.stages.some((s) => s.state === 'next')" :stages="barn.stages" />
      <div v-if="barn.counts.nodes" class="upper">
        <section aria-label="Barn map">
          <div class="sec">
            <h2>Barn map</h2>
            <span class="lens" role="group" aria-label="Lens">
              <VBtn :aria-pressed="screen.lens === 'fullness'" @click="screen.lens = 'fullness'">
                Fullness
              </VBtn>
              <VBtn :aria-pressed="screen.lens === 'work'" @click="screen.lens = 'work'"> Work now </VBtn>
            </span>
            <span class="grow" /><span class="small"
              >Pick a node or disk to open it, a volume to light it.</span
            >
          </div>
          <BarnMap :rooms="barn.rooms" :work="lens" @open="openDisk" @open-node="openNode" />
          <MapKey :work="screen.lens === 'work'" />
        </section>
        <AttentionList :items="barn.attention" />
      </div>
      <p v-else class="empty">
        Fold Barn listens for agents. Start the agent on a server and tell it this address; the server and its
        disks appear here within seconds, and nothing on them is changed.
      </p>
      <section v-if="barn.counts.nodes" class="where" aria-label="Where it went">
        <div class="sec">
          <h2>Where it went</h2>
          <span v-if="barn.counts.pools" class="small"
            >Of {{ hundredths(barn.whole.raw.tb) }} TB raw, {{ cell("promised", "written") }} TB is in
            volumes. {{ cell("free") }} TB more will fit at each pool's usual protection.</span
          >
          <span v-else class="small"
            >{{ hundredths(barn.whole.raw.tb) }} TB raw, none of it in a pool yet.
            <VBtn class="act" data-offered @click="begin">Preview a pool</VBtn></span
          >
          <span class="grow" />
          <span v-if="barn.pools.length" class="lens" role="group" aria-label="Ledger of">
            <VBtn :aria-pressed="!asked" @click="asked = ''">Whole site</VBtn>
            <VBtn
              v-for="p in barn.pools"
              :key="p.name"
              :aria-pressed="asked === p.name"
              @click="asked = p.name"
            >
              {{ p.name }}
            </VBtn>
          </span>
        </div>
        <LedgerTable :ledgers="shown" :whole="asked ? undefined : barn.whole" binary />
      </section>
    </template>
  </main>
</template>

<style scoped>
.upper {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 372px;
  gap: 26px;
}
.where {
  padding-top: 8px;
}
@media (max-width: 1100px) {
  .upper {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
