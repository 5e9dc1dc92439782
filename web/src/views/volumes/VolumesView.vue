<script setup lang="ts">
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import {
  useBarn,
  useDefaults,
  useVolumes,
  volumeNames,
  type AskedVolumes,
  type Volume,
} from "../../api/client";
import { addressOf, askedOf, ordered } from "../../lib/asked";
import { binarySize, count, terabytes } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import SumFigure from "../../parts/SumFigure.vue";
import PlanMenu from "../barn/PlanMenu.vue";
import BinTable from "./BinTable.vue";
import VolumeAsking from "./VolumeAsking.vue";
import VolumeTabs from "./VolumeTabs.vue";

/** The volumes that are asked for, page by page, and what can be done with those that are chosen. */
const PER = 100;
const HEADS: { by?: NonNullable<AskedVolumes["by"]>; name: string; number?: boolean }[] = [
  { by: "name", name: "Volume" },
  { by: "state", name: "Data" },
  { by: "pool", name: "Pool" },
  { by: "size", name: "Size, TB", number: true },
  { name: "binary", number: true },
  { by: "written", name: "Written, TB", number: true },
  { by: "policy", name: "Policy" },
  { name: "Protection" },
  { by: "on disks", name: "On disks, TB", number: true },
  { by: "survives", name: "Survives" },
  { by: "hosts", name: "Hosts" },
  { name: "State, and why" },
];
const { data: barn } = useBarn();
const route = useRoute();
const router = useRouter();
const asked = computed({
  get: () => askedOf(route.query),
  set: (now: AskedVolumes) => void router.push({ query: { ...route.query, ...addressOf(now) } }),
});
const { data: found, error } = useVolumes(() => ({ ...asked.value, per: PER }));
/** Of the bin what has such names and belongs to the same; how things there are is another question. */
const { data: bin, error: binError } = useVolumes(() => ({
  words: asked.value.words,
  of: asked.value.of,
  binned: true,
  per: 500,
}));
const binned = computed(() => bin.value?.matching ?? 0);
const { data: defaults } = useDefaults();
/** Volumes that one change takes. */
const most = computed(() => defaults.value?.most_volumes ?? Infinity);
const narrowed = computed(
  () => Boolean(asked.value.words) || Boolean(asked.value.is?.length) || Boolean(asked.value.of?.length),
);
const clear = () => (asked.value = { ...asked.value, words: "", is: [], of: [], page: 1 });
/** Where the same volumes are kept as a file. */
const file = (kind: "csv" | "json") => {
  const { words, is, of, by, falling } = asked.value;
  const query = new URLSearchParams({ ...(words ? { words } : {}), by: by!, falling: String(falling) });
  for (const one of is ?? []) query.append("is", one);
  for (const one of of ?? []) query.append("of", one);
  return `/api/volumes.${kind}?${query}`;
};
const turned = (by: AskedVolumes["by"]) =>
  asked.value.by !== by ? "none" : asked.value.falling ? "descending" : "ascending";

// Choosing. ------------------------------------------------------------------------------------------

const chosen = ref(new Set<string>());
const last = ref(-1);
const onward = ref(false); // the shift key is held
/** With the shift key, all from where one was chosen last. */
function choose(place: number) {
  const rows = found.value!.volumes;
  const on = !chosen.value.has(rows[place]!.name);
  const from = onward.value && last.value >= 0 ? last.value : place;
  const names = rows.slice(Math.min(from, place), Math.max(from, place) + 1).map((v) => v.name);
  alter(names, on);
  last.value = place;
}
function alter(names: string[], on: boolean) {
  const now = new Set(chosen.value);
  for (const name of names) {
    if (on) now.add(name);
    else now.delete(name);
  }
  chosen.value = now;
}
const here = computed(() => found.value?.volumes.map((v) => v.name) ?? []);
const allHere = computed(() => here.value.length > 0 && here.value.every((name) => chosen.value.has(name)));
const someHere = computed(() => here.value.some((name) => chosen.value.has(name)));
const chooseAll = async () => alter(await volumeNames(asked.value, most.value), true);
const named = computed(() => [...chosen.value].join(","));
const DEEDS = [
  ["keep-policy", {}, "another policy"],
  ["take-snapshot", {}, "a snapshot of them"],
  ["set-volume", {}, "labels, limits and paths"],
  ["offline-volume", { offline: "yes" }, "taking them offline"],
  ["offline-volume", { offline: "no" }, "bringing them online"],
  ["delete-volume", {}, "deleting them"],
] as const;
const deed = (plan: string, more: Record<string, string>) => ({
  query: { ...route.query, plan, volumes: named.value, ...more },
});
const parted = (v: Volume) =>
  v.connected < v.hosts ? `, ${(v.hosts - v.connected).toLocaleString("en")} not connected` : "";
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Volumes</h1>
      <VolumeTabs />
      <p v-if="found">
        {{
          narrowed
            ? `${found.matching.toLocaleString("en")} of ${count(found.kept, "volume")}`
            : count(found.kept, "volume")
        }}<template v-if="binned"
          >, {{ binned.toLocaleString("en") }} more
          <RouterLink class="act" :to="{ query: route.query, hash: '#bin' }">in the bin</RouterLink></template
        >.
      </p>
      <span class="grow" />
      <span v-if="found?.matching" class="small keep"
        >Keep the list as <a class="act" :href="file('csv')" download>CSV</a
        ><a class="act" :href="file('json')" download>JSON</a></span
      >
      <PlanMenu v-if="barn" :pools="barn.pools" />
    </div>
    <ProblemNote :error="error ?? binError" />
    <VolumeAsking v-if="found?.kept || narrowed" v-model="asked" :answers="found?.answers ?? []" />
    <div v-if="chosen.size" class="chosen" role="group" aria-label="What is chosen">
      <b>{{ count(chosen.size, "volume") }} chosen.</b>
      <span v-if="chosen.size > most" class="soft"
        >One change takes {{ most.toLocaleString("en") }} at the most.</span
      >
      <template v-else>
        Preview
        <RouterLink
          v-for="[plan, more, words] in DEEDS"
          :key="words"
          class="act"
          :aria-label="`Preview ${words}`"
          :to="deed(plan, more)"
          >{{ words }}</RouterLink
        >
      </template>
      <span class="grow" />
      <VBtn v-if="allHere && found!.matching > here.length" class="act" @click="chooseAll"
        >Choose
        {{
          found!.matching > most
            ? `the first ${most.toLocaleString("en")}`
            : `all ${found!.matching.toLocaleString("en")}`
        }}</VBtn
      >
      <VBtn class="act" @click="chosen = new Set()">Choose none</VBtn>
    </div>
    <VTable v-if="found?.volumes.length" class="plain volumes">
      <thead>
        <tr>
          <th class="pick">
            <VCheckboxBtn
              aria-label="Choose all on this page"
              :model-value="allHere"
              :indeterminate="someHere && !allHere"
              @update:model-value="alter(here, !allHere)"
            />
          </th>
          <th
            v-for="h in HEADS"
            :key="h.name"
            :class="{ n: h.number }"
            :aria-sort="h.by ? turned(h.by) : undefined"
          >
            <VBtn v-if="h.by" class="turn" @click="asked = ordered(asked, h.by)"
              >{{ h.name
              }}<span v-if="asked.by === h.by" aria-hidden="true">{{
                asked.falling ? " ↓" : " ↑"
              }}</span></VBtn
            ><template v-else>{{ h.name }}</template>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(v, place) in found.volumes" :key="v.name" :data-volume="v.name">
          <td class="pick">
            <VCheckboxBtn
              :aria-label="`Choose ${v.name}`"
              :model-value="chosen.has(v.name)"
              @pointerdown="onward = $event.shiftKey"
              @keydown="onward = $event.shiftKey"
              @update:model-value="choose(place)"
            />
          </td>
          <td class="name">
            <RouterLink :to="pathOf('volume', v.name)"
              ><b>{{ v.name }}</b></RouterLink
            >
            <div v-if="v.part_of" class="soft">
              VM <RouterLink :to="pathOf('vm', v.part_of)">{{ v.part_of }}</RouterLink>
            </div>
            <div v-if="v.share" class="soft">
              share <RouterLink :to="pathOf('share', v.share)">{{ v.share }}</RouterLink>
            </div>
            <div v-if="v.labels.length" class="soft">{{ v.labels.join(", ") }}</div>
          </td>
          <td><StateMark :lamp="v.state.lamp" /> {{ v.forming ? "being made" : v.data }}</td>
          <td>
            <RouterLink :to="pathOf('pool', v.pool)">{{ v.pool }}</RouterLink>
          </td>
          <td class="n">{{ terabytes(v.size_bytes) }}</td>
          <td class="n soft">{{ binarySize(v.size_bytes) }}</td>
          <td class="n">{{ terabytes(v.written_bytes) }}</td>
          <td>
            <template v-if="v.keeps">
              <StateMark :lamp="v.keeps.lamp" :title="v.keeps.sentence" />{{ " " }}
              <RouterLink :to="pathOf('policy', v.keeps.policy)">{{ v.keeps.policy }}</RouterLink>
            </template>
            <span v-else class="soft">{{ v.origin?.shown ? "its original's" : "by hand" }}</span>
          </td>
          <td>{{ v.counted }} by {{ v.level }}</td>
          <td class="n">
            <SumFigure :figure="v.footprint">{{ terabytes(v.footprint.value) }}</SumFigure>
          </td>
          <td>{{ v.survives ? count(v.survives, v.level) : "no loss" }}</td>
          <td>
            <RouterLink v-if="v.hosts" :to="pathOf('reach', v.name)"
              >{{ v.hosts.toLocaleString("en") }}{{ parted(v) }}</RouterLink
            >
            <span v-else class="soft">none</span>
          </td>
          <td class="soft">{{ v.state.lamp === "sound" ? "as it should be" : v.state.reason }}</td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="found && narrowed" class="empty">
      Of {{ count(found.kept, "volume") }} none is what you ask for.
      <VBtn class="act" @click="clear">Show all</VBtn>
    </p>
    <p v-else-if="barn && !barn.counts.volumes" class="empty">
      {{ binned ? "No volume but in the bin." : "No volume yet." }}
      <RouterLink v-if="barn.pools.length" class="act" data-offered :to="{ query: { plan: 'create-volume' } }"
        >Preview a volume</RouterLink
      >
      <template v-else
        >A volume draws from a pool, so
        <RouterLink class="act" data-offered :to="{ query: { plan: 'form-pool' } }"
          >preview a pool</RouterLink
        >
        first.</template
      >
    </p>
    <p v-else-if="!error" class="empty">Reading the list …</p>
    <nav v-if="found && found.pages > 1" class="pages" aria-label="Pages">
      <VBtn class="act" :disabled="found.page === 1" @click="asked = { ...asked, page: found.page - 1 }"
        >Before</VBtn
      >
      <span
        >{{ ((found.page - 1) * PER + 1).toLocaleString("en") }} to
        {{ Math.min(found.page * PER, found.matching).toLocaleString("en") }} of
        {{ found.matching.toLocaleString("en") }}</span
      >
      <VBtn
        class="act"
        :disabled="found.page === found.pages"
        @click="asked = { ...asked, page: found.page + 1 }"
        >After</VBtn
      >
    </nav>
    <BinTable v-if="bin && binned" :volumes="bin.volumes" :kept="binned" />
  </main>
</template>

<style scoped>
.volumes td:not(:last-child),
.volumes th {
  white-space: nowrap;
}
.volumes td.name {
  white-space: normal;
  overflow-wrap: anywhere;
  max-width: 200px;
  min-width: 122px;
}
.pick {
  width: 24px;
}
.turn {
  font: inherit;
  color: inherit;
}
.turn:hover,
[aria-sort]:not([aria-sort="none"]) .turn {
  color: var(--ink);
}
.chosen,
.pages,
.keep {
  display: flex;
  align-items: baseline;
  gap: 12px;
}
.chosen {
  padding: 5px 10px;
  margin-bottom: 8px;
  background: var(--sheet);
  border-left: 4px solid var(--slate);
  font-size: var(--t-s);
}
.pages {
  padding-top: 8px;
  font-size: var(--t-s);
  justify-content: flex-end;
}
</style>
