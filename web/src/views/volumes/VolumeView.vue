<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import {
  useAttachments,
  useBarn,
  useExtent,
  useHeat,
  useVolume,
  useVolumeRoom,
  type VolumePage,
} from "../../api/client";
import { binarySize, count, say, size, terabytes } from "../../lib/format";
import BarnMap from "../../parts/BarnMap.vue";
import CopyName from "../../parts/CopyName.vue";
import OnTheWay from "../../parts/OnTheWay.vue";
import LineageCards from "../../parts/LineageCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import SumFigure from "../../parts/SumFigure.vue";
import TideGraph from "../../parts/TideGraph.vue";
import WhatWasDone from "../../parts/WhatWasDone.vue";
import { pathOf } from "../../lib/paths";
import PlanMenu from "../barn/PlanMenu.vue";
import { hostsCard } from "../hosts/cards";
import { volumeCards } from "./cards";
import CopyStaff from "./CopyStaff.vue";
import HeatCurve from "./HeatCurve.vue";
import SnapshotTable from "./SnapshotTable.vue";

const props = defineProps<{ name: string }>();
const { data: volume, error } = useVolume(() => props.name);
const { data: lanes } = useAttachments(() => props.name);
const { data: heat } = useHeat(() => props.name);
const { data: room } = useVolumeRoom(() => props.name);
const LIMITS = {
  apart: "its free room, kept apart",
  "fill line": "up to its fill line",
  cap: "up to its cap on overcommit",
} as const;
const { data: barn } = useBarn();
const route = useRoute();
const router = useRouter();
const unlit = ref(false);
function fromAddress(): number | null {
  const number = Number(route.query.extent);
  return typeof route.query.extent === "string" && Number.isInteger(number) && number >= 0 ? number : null;
}
const picked = ref(fromAddress()); // ahead of the address, so that quick presses of a key all count
watch(
  () => route.query.extent,
  () => (picked.value = fromAddress()),
);
const { data: extent } = useExtent(() => props.name, picked);
function pick(number: number | null) {
  picked.value = number;
  void router.replace({ query: number === null ? {} : { extent: String(number) } });
}
const tags = computed(() =>
  picked.value === null || !extent.value
    ? {}
    : Object.fromEntries(extent.value.strips.filter((s) => s.disk).map((s) => [s.disk!, s.copy_name])),
);
const pool = computed(() => barn.value?.pools.find((p) => p.name === volume.value?.pool));
const holders = computed(() =>
  (barn.value?.rooms ?? [])
    .flatMap((r) => r.racks.flatMap((k) => k.nodes))
    .filter((n) => n.disks.some((d) => d.name in (volume.value?.shares ?? {}))),
);
const cards = computed(() => {
  const v = volume.value!;
  return [
    hostsCard(v, lanes.value ?? []),
    ...volumeCards(v, pool.value, true),
    {
      kind: "Nodes and disks",
      name: `${count(holders.value.length, "node")}, ${count(Object.keys(v.shares).length, "disk")}`,
      fact: holders.value.map((n) => n.name).join(", "),
      lamp: v.holders.lamp,
      to: "/machines",
    },
  ];
});
/** Taking it from its consumers, or giving it back; what is in the bin is brought back first. */
const serving = computed(() => {
  const v = volume.value!;
  if (v.binned) return [];
  const title = v.offline ? `Preview bringing ${v.name} online` : `Preview taking ${v.name} offline`;
  const offline: Record<string, string> = { volume: v.name, offline: v.offline ? "no" : "yes" };
  const reach: Record<string, string> = { volume: v.name };
  const about = v.offline
    ? "its consumers may use it again"
    : "its consumers are kept from it, nothing moves";
  return [
    {
      kind: "attach-volume",
      title: `Preview attaching ${v.name}`,
      about: "hosts reach it by iSCSI or NVMe",
      more: reach,
    },
    { kind: "offline-volume", title, about, more: offline },
  ];
});
/** What consumers may ask of it in a second, and whose limit that is. */
const limits = computed(() => {
  const l = volume.value!.limits;
  const by = (own: boolean, most: number) => (!most ? "" : own ? "its own" : "its policy's");
  return [
    {
      what: "Most operations a second",
      most: l.operations ? l.operations.toLocaleString("en") : "no limit",
      by: by(l.own_operations, l.operations),
    },
    {
      what: "Most bytes a second",
      most: l.throughput ? size(l.throughput) : "no limit",
      by: by(l.own_throughput, l.throughput),
    },
  ];
});
/** How what waits in a landing is, in words. */
const landed = (l: NonNullable<VolumePage["landing"]>) =>
  l.forming
    ? "being set aside"
    : ({ whole: "every copy is there", reduced: "a copy is away", bare: "the last copy" }[
        l.data as "whole" | "reduced" | "bare"
      ] ?? "cannot be read now");
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="volume && barn">
      <div class="headline">
        <h1><StateMark :lamp="volume.state.lamp" /> {{ volume.name }} <CopyName :name="volume.name" /></h1>
        <p>{{ volume.state.reason }}<OnTheWay :changes="volume.mended_by" /></p>
        <span class="grow" />
        <RouterLink
          v-if="!volume.binned && !volume.origin"
          class="act"
          :to="{ query: { plan: 'keep-policy', volumes: volume.name } }"
          >Preview another policy</RouterLink
        >
        <RouterLink
          v-if="volume.origin?.left && !volume.binned"
          class="act"
          :to="{ query: { plan: 'stand-alone', volume: volume.name } }"
          >Preview letting it stand alone</RouterLink
        >
        <RouterLink class="act" :to="{ query: { plan: 'rename-volume', volume: volume.name } }"
          >Preview renaming it</RouterLink
        >
        <RouterLink
          v-if="!volume.binned && !volume.origin"
          class="act"
          :to="{ query: { plan: 'grow-volume', volume: volume.name } }"
          >Preview growing it</RouterLink
        >
        <RouterLink
          v-if="volume.hot?.extents && !volume.hot.outright && !volume.binned"
          class="act"
          :to="{ query: { plan: 'move-extents', volume: volume.name, tier: 'bulk' } }"
          >Preview moving it all down</RouterLink
        >
        <template v-if="volume.vm">
          <RouterLink
            class="act"
            :to="{ query: { plan: volume.binned ? 'restore-vm' : 'delete-vm', vm: volume.vm.name } }"
            >{{ volume.binned ? "Preview bringing its VM back" : "Preview deleting its VM" }}</RouterLink
          >
        </template>
        <RouterLink
          v-else-if="volume.share"
          class="act"
          :to="{ query: { plan: volume.binned ? 'restore-share' : 'delete-share', share: volume.share } }"
          >{{ volume.binned ? "Preview bringing its share back" : "Preview deleting its share" }}</RouterLink
        >
        <template v-else-if="volume.binned">
          <RouterLink class="act" :to="{ query: { plan: 'restore-volume', volume: volume.name } }"
            >Preview bringing it back</RouterLink
          >
          <RouterLink
            class="act"
            :to="{ query: { plan: 'empty-bin', pool: volume.pool, volumes: volume.name } }"
            >Preview emptying the bin of it</RouterLink
          >
        </template>
        <RouterLink v-else class="act" :to="{ query: { plan: 'delete-volume', volume: volume.name } }"
          >Preview deleting it</RouterLink
        >
        <PlanMenu :pools="barn.pools" :first="serving" />
      </div>
      <LineageCards :cards="cards" />
      <div class="upper">
        <section aria-label="Where it lies">
          <div class="sec lies">
            <h2>Where it lies</h2>
            <span class="small">{{
              volume.origin?.shown
                ? `Blue is what ${volume.origin.volume} has on each disk: all of it is read there.`
                : "Blue is this volume's share of each disk."
            }}</span><span class="grow" />
            <template v-if="!volume.binned && !volume.origin?.shown">
              <RouterLink class="act small" :to="{ query: { plan: 'keep-on', volume: volume.name } }"
                >Preview choosing disks</RouterLink
              >
              <RouterLink
                v-if="!volume.origin && barn.pools.length > 1"
                class="act small"
                :to="{ query: { plan: 'move-volume', volume: volume.name } }"
                >Preview another pool</RouterLink
              >
            </template>
            <VBtn class="small" @click="unlit = !unlit">
              <kbd>Esc</kbd> {{ unlit ? "light" : "unlight" }}
            </VBtn>
          </div>
          <BarnMap
            :rooms="barn.rooms"
            :lit="unlit ? null : volume.shares"
            :picked="tags"
            @open="(d) => router.push(pathOf('disk', d.name))"
            @open-node="(n) => router.push(pathOf('node', n.name))"
            @unlight="unlit = true"
          />
          <CopyStaff
            :extents="volume.extents"
            :lines="volume.lines"
            :missing="volume.missing"
            :missing-count="volume.missing_count"
            :picked="picked"
            :extent="extent ?? null"
            :upper="volume.upper"
            :unset="volume.unset_ranges"
            :through="volume.through_ranges"
            :origin="volume.origin ? `${volume.origin.snapshot} of ${volume.origin.volume}` : ''"
            @pick="pick"
          />
          <SnapshotTable v-if="!volume.origin?.shown" :volume="volume" />
          <TideGraph class="next" of="volume" :name="volume.name" />
          <template v-if="heat">
            <div class="sec next"><h2>What is asked of it</h2></div>
            <HeatCurve :name="name" :heat="heat" />
          </template>
          <div class="sec next"><h2>What was done with it</h2></div>
          <WhatWasDone made="Made" :at="volume.made_at" :change="volume.change" :lines="volume.history" />
        </section>
        <section aria-label="Space account">
          <div class="sec">
            <h2>Space account</h2>
            <span class="grow" /><span class="small">TB</span>
          </div>
          <VTable class="acct">
            <tbody>
              <tr>
                <td>
                  Promised <span class="soft">({{ binarySize(volume.size_bytes) }})</span>
                </td>
                <td>{{ terabytes(volume.size_bytes) }}</td>
              </tr>
              <tr v-if="!volume.origin?.shown">
                <td>
                  Rounded up to {{ volume.extents.toLocaleString("en") }} extents of
                  {{ binarySize(volume.extent_bytes) }}
                </td>
                <td>{{ terabytes(volume.extents * volume.extent_bytes) }}</td>
              </tr>
              <tr v-if="!volume.origin?.shown">
                <td>{{ volume.mirror ? "Copies" : "Strips of an extent, for each of its data" }}</td>
                <td>
                  × {{ volume.mirror ? volume.copies : +(volume.copies / volume.data_strips).toFixed(2) }}
                </td>
              </tr>
              <tr v-if="volume.unset">
                <td>
                  less {{ count(volume.unset, "extent") }} with no room set aside yet
                  <span v-if="volume.thin" class="soft">(it takes room as it is written)</span>
                </td>
                <td>− {{ terabytes(volume.unset_bytes) }}</td>
              </tr>
              <tr v-if="volume.origin && !volume.origin.shown">
                <td>
                  less {{ count(volume.origin.extents - volume.origin.own, "extent") }} read from
                  {{ volume.origin.snapshot }} of {{ volume.origin.volume }}
                </td>
                <td>− {{ terabytes(volume.through_bytes) }}</td>
              </tr>
              <tr v-if="volume.landing">
                <td>
                  Its landing on the fast tier, {{ volume.landing.counted }}
                  <span class="soft">(room for {{ binarySize(volume.landing.bytes) }})</span>
                </td>
                <td>+ {{ terabytes(volume.landing.on_disks) }}</td>
              </tr>
              <tr v-if="volume.past">
                <td>
                  Kept for its snapshots, {{ volume.past.counted }}
                  <span class="soft">(room for {{ binarySize(volume.past.bytes) }})</span>
                </td>
                <td>+ {{ terabytes(volume.past.on_disks) }}</td>
              </tr>
              <template v-if="volume.hot?.extents">
                <tr>
                  <td>less {{ count(volume.hot.extents, "extent") }}, which lie on the fast tier</td>
                  <td>− {{ terabytes(volume.hot.spared) }}</td>
                </tr>
                <tr>
                  <td>
                    there as {{ volume.hot.counted }}
                    <span class="soft"
                      >({{ volume.hot.outright ? "its first " : "" }}{{ volume.hot.most.toLocaleString("en")
                      }}{{ volume.hot.outright ? "" : " may" }})</span
                    >
                  </td>
                  <td>+ {{ terabytes(volume.hot.on_disks) }}</td>
                </tr>
              </template>
              <tr class="total">
                <td>On disks</td>
                <td>
                  <SumFigure :figure="volume.footprint">{{ terabytes(volume.footprint.value) }}</SumFigure>
                </td>
              </tr>
              <tr v-if="volume.anew">
                <td>
                  {{
                    volume.origin
                      ? "Kept for what is still to be written, as"
                      : volume.anew.moves
                        ? `Kept on the ${volume.anew.tier} tier, for what goes there as`
                        : "Kept beside it, to write it anew as"
                  }}
                  {{ volume.anew.counted }}
                  <span class="soft"
                    >({{ volume.anew.there.toLocaleString("en") }} of
                    {{ count(volume.anew.strips, "strip") }} there)</span
                  >
                </td>
                <td>{{ terabytes(volume.anew.bytes) }}</td>
              </tr>
              <tr v-if="volume.missing_count">
                <td>of that, not readable now</td>
                <td>{{ terabytes((volume.missing_count * volume.extent_bytes) / volume.data_strips) }}</td>
              </tr>
              <tr v-if="!volume.origin?.shown">
                <td>Written by its users</td>
                <td>{{ terabytes(volume.written_bytes) }}</td>
              </tr>
              <tr v-if="volume.landing">
                <td>
                  of that, in its landing and yet to settle
                  <span class="soft">({{ landed(volume.landing) }})</span>
                </td>
                <td>{{ terabytes(volume.landing.waiting) }}</td>
              </tr>
              <tr v-if="room && !volume.origin?.shown">
                <td>
                  {{ volume.pool }} would take more, as this is
                  <span class="soft"
                    >({{ LIMITS[room.limit]
                    }}{{ room.for_landing ? ", on the fast tier for its landing" : "" }})</span
                  >
                </td>
                <td>{{ terabytes(room.bytes) }}</td>
              </tr>
            </tbody>
          </VTable>
          <div class="sec next">
            <h2>Labels, limits and paths</h2>
            <span class="grow" />
            <RouterLink
              v-if="!volume.binned"
              class="act small"
              :to="{ query: { plan: 'set-volume', volume: volume.name } }"
              >Preview setting them</RouterLink
            >
          </div>
          <VTable class="acct">
            <tbody>
              <tr>
                <td>Labels</td>
                <td class="words">{{ volume.labels.length ? volume.labels.join(", ") : "none" }}</td>
              </tr>
              <tr>
                <td>May lie on</td>
                <td class="words">
                  {{ volume.only_on.length ? say(volume.only_on) : `any disk of ${volume.pool}` }}
                </td>
              </tr>
              <tr>
                <td>Served to hosts by</td>
                <td class="words">{{ count(volume.serving_nodes, "node") }}</td>
              </tr>
              <tr v-for="limit in limits" :key="limit.what">
                <td>
                  {{ limit.what }} <span v-if="limit.by" class="soft">({{ limit.by }})</span>
                </td>
                <td :class="{ words: !limit.by }">{{ limit.most }}</td>
              </tr>
            </tbody>
          </VTable>
          <div class="sec next">
            <h2>If one more {{ volume.level }} were lost</h2>
          </div>
          <VTable class="acct">
            <tbody>
              <tr v-for="w in volume.what_if" :key="w.domain">
                <td class="domain"><StateMark :lamp="w.unreadable ? 'failed' : 'sound'" /> {{ w.domain }}</td>
                <td class="words">
                  {{ count(w.extents_hit, "extent") }} {{ w.extents_hit === 1 ? "loses" : "lose" }}
                  {{ volume.mirror ? "a copy" : "a strip" }},
                  {{
                    w.unreadable ? `${w.unreadable.toLocaleString("en")} could not be read` : "all readable"
                  }}
                </td>
              </tr>
            </tbody>
          </VTable>
          <p v-if="volume.origin && !volume.origin.shown" class="small">
            What is read from {{ volume.origin.snapshot }} goes as
            <RouterLink :to="pathOf('volume', volume.origin.volume)">{{ volume.origin.volume }}</RouterLink>
            does.
          </p>
        </section>
      </div>
    </template>
    <p v-else-if="!error" class="empty">Reading {{ name }} …</p>
  </main>
</template>

<style scoped>
.upper {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 340px;
  gap: 26px;
  padding-top: 10px;
}
.lies {
  flex-wrap: wrap;
}
.acct {
  font-size: var(--t-s);
}
.acct td {
  border-top: 1px solid var(--rule);
  padding: 3px 0;
  vertical-align: top;
}
.acct tr:first-child td,
.acct tr.total td {
  border-top: 1.5px solid var(--ink);
}
.acct td:last-child {
  text-align: right;
  font-family: var(--mono);
  white-space: nowrap;
}
.acct td.domain {
  white-space: nowrap;
  padding-right: 8px;
}
.acct td.words {
  font-family: var(--ui);
  color: var(--soft);
}
.acct tr.total td {
  font-weight: 640;
}
.next {
  padding-top: 16px;
}
</style>
