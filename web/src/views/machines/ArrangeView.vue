<script setup lang="ts">
import { computed, nextTick, ref, watch } from "vue";
import { useMachines } from "../../api/client";
import { everyEffect } from "../../lib/effects";
import { usePlan } from "../../lib/plan";
import { count, terabytes } from "../../lib/format";
import LevelTable from "../../parts/LevelTable.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import MachineTabs from "./MachineTabs.vue";
import { add, moveBeside, moveTo, remove, rename, type RoomWish } from "./arranging";

/**
 * Rooms, racks and nodes, put where they stand: by drag, by keyboard, or by text. The effect on every level
 * shows at once.
 */
const { data: machines, error } = useMachines();
const rooms = ref<RoomWish[]>([]);
const past = ref<RoomWish[][]>([]);
const grabbed = ref<string | null>(null);
const over = ref<string | null>(null);
const params = computed(() => ({ rooms: rooms.value }));
const changed = computed(() => past.value.length > 0);
const kind = ref("arrange");
const plan = usePlan(kind, params, () => rooms.value.length > 0);
const texts = computed(() => everyEffect(plan.preview.value, "texts").flatMap((e) => e.rows));
const levels = computed(() => everyEffect(plan.preview.value, "levels")[0] ?? { before: [], after: [] });
const facts = computed(() => new Map((machines.value?.nodes ?? []).map((n) => [n.name, n])));
const bytes = computed(() => {
  const found = new Map<string, number>();
  for (const d of machines.value?.disks ?? [])
    if (d.role === "capacity" || d.role === "unclaimed")
      found.set(d.enclosure ?? d.node, (found.get(d.enclosure ?? d.node) ?? 0) + d.size_bytes);
  return found;
});

/** How things stand, as the site says; kept in step with it until someone moves something. */
watch(
  machines,
  (now) => {
    if (!now || changed.value) return;
    const found: RoomWish[] = [];
    const rackOf = (room: string, rack: string) => {
      const r = found.find((x) => x.name === room) ?? found[found.push({ name: room, racks: [] }) - 1]!;
      return r.racks.find((x) => x.name === rack) ?? r.racks[r.racks.push({ name: rack, nodes: [] }) - 1]!;
    };
    for (const n of now.nodes) rackOf(n.room, n.rack).nodes.push(n.name);
    for (const e of now.enclosures)
      found
        .flatMap((r) => r.racks)
        .find((k) => k.name === e.rack)
        ?.nodes.push(e.name);
    rooms.value = found;
  },
  { immediate: true },
);

function change(next: RoomWish[]) {
  if (next === rooms.value) return;
  past.value = [...past.value, rooms.value];
  rooms.value = next;
}
function undo() {
  const before = past.value.at(-1);
  if (!before) return;
  past.value = past.value.slice(0, -1);
  rooms.value = before;
}
function drop(rack: string) {
  if (grabbed.value) change(moveTo(rooms.value, grabbed.value, rack));
  grabbed.value = over.value = null;
}
async function onKey(event: KeyboardEvent, name: string) {
  if (!event.altKey && !event.shiftKey) return;
  const ways = { ArrowLeft: "left", ArrowRight: "right", ArrowUp: "up", ArrowDown: "down" } as const;
  const way = ways[event.key as keyof typeof ways];
  if (!way) return;
  event.preventDefault();
  change(moveBeside(rooms.value, name, way));
  await nextTick();
  document.querySelector<HTMLElement>(`[data-stall="${CSS.escape(name)}"]`)?.focus();
}
function onPageKey(event: KeyboardEvent) {
  if (
    (event.ctrlKey || event.metaKey) &&
    event.key === "z" &&
    !(event.target as HTMLElement).closest("input")
  ) {
    event.preventDefault();
    undo();
  }
}
const write = (what: "room" | "rack", old: string, event: Event) =>
  change(rename(rooms.value, what, old, (event.target as HTMLInputElement).value));
</script>

<template>
  <main class="page" @keydown="onPageKey">
    <div class="headline">
      <h1>Machines</h1>
      <MachineTabs /><span class="grow" />
      <VBtn class="btn plain" :disabled="!changed" @click="undo">Take back</VBtn>
      <VBtn
        class="btn"
        data-offered
        :disabled="plan.blocked.value || !changed || !texts.length"
        @click="plan.carryOut"
      >
        Carry out
      </VBtn>
    </div>
    <ProblemNote :error="error ?? plan.error.value" />
    <p class="small">
      Drag a node to another rack, or hold Shift and press an arrow key. Names of rooms and racks can be
      written over; an empty rack can be removed. Or
      <RouterLink class="act" to="/text">arrange by text</RouterLink>.
    </p>
    <p v-if="machines && !machines.nodes.length" class="empty">
      There is nothing to arrange yet. <RouterLink class="act" to="/intake">Take in machines</RouterLink>
    </p>
    <div class="house" role="group" aria-label="Arrangement">
      <div
        v-for="room in rooms"
        :key="room.name"
        class="room"
        :style="{ flexGrow: Math.max(1, room.racks.length) }"
      >
        <svg viewBox="0 0 100 16" preserveAspectRatio="none" aria-hidden="true">
          <path
            d="M0 16 50 1 100 16"
            fill="var(--eave)"
            stroke="var(--timber)"
            stroke-width="1.4"
            vector-effect="non-scaling-stroke"
          />
        </svg>
        <VTextField
          class="sign"
          :model-value="room.name"
          :aria-label="`Name of room ${room.name}`"
          maxlength="63"
          @change="write('room', room.name, $event)"
        />
        <div class="racks">
          <div
            v-for="rack in room.racks"
            :key="rack.name"
            class="rack"
            :class="{ over: over === rack.name }"
            :data-rack="rack.name"
            @dragover.prevent="over = rack.name"
            @dragleave="over = null"
            @drop.prevent="drop(rack.name)"
          >
            <VBtn
              v-for="name in rack.nodes"
              :key="name"
              class="stall"
              draggable="true"
              :data-stall="name"
              :title="facts.get(name)?.state.reason"
              :aria-description="`In ${rack.name}, ${room.name}. Shift and arrow keys move it.`"
              @dragstart="grabbed = name"
              @dragend="grabbed = null"
              @keydown="onKey($event, name)"
            >
              <b><StateMark v-if="facts.get(name)" :lamp="facts.get(name)!.state.lamp" /> {{ name }}</b>
              <span
                >{{ facts.get(name) ? count(facts.get(name)!.disks, "disk") : "enclosure" }},
                {{ terabytes(bytes.get(name) ?? 0) }} TB</span
              >
            </VBtn>
            <p v-if="!rack.nodes.length" class="none">
              empty
              <VBtn class="act" @click="change(remove(rooms, rack.name))">Remove</VBtn>
            </p>
            <VTextField
              class="rackno"
              :model-value="rack.name"
              :aria-label="`Name of rack ${rack.name}`"
              maxlength="63"
              @change="write('rack', rack.name, $event)"
            />
          </div>
          <VBtn class="act more" @click="change(add(rooms, room.name))">Add a rack</VBtn>
        </div>
      </div>
      <VBtn v-if="rooms.length" class="act more" @click="change(add(rooms))"> Add a room </VBtn>
    </div>
    <div v-if="plan.preview.value" class="below">
      <section aria-label="Effect on every level">
        <div class="sec">
          <h2>What may fail together</h2>
          <span class="small">pooled and fit disks, TB; struck out: as it stands now</span>
        </div>
        <LevelTable
          :before="changed ? levels.before : []"
          :after="levels.after.length ? levels.after : levels.before"
        />
      </section>
      <section aria-label="What changes">
        <div class="sec"><h2>What changes</h2></div>
        <p v-for="b in plan.preview.value.blockers" :key="b.sentence" class="note" data-note="blocker">
          <StateMark lamp="failed" /> <span><b>Blocker:</b> {{ b.sentence }}</span>
        </p>
        <p v-for="t in texts" :key="t.label" class="note">
          <StateMark lamp="sound" />
          <span
            ><b>{{ t.label }}</b> from {{ t.before }} to {{ t.after }}</span
          >
        </p>
        <p v-if="!texts.length && !plan.preview.value.blockers.length" class="soft note">
          <span /><span>Nobody stands elsewhere.</span>
        </p>
        <p v-for="w in plan.preview.value.warnings" :key="w.sentence" class="note" data-note="warning">
          <StateMark lamp="watch" /> <span>{{ w.sentence }}</span>
        </p>
      </section>
    </div>
  </main>
</template>

<style scoped>
.house {
  display: flex;
  gap: 16px;
  align-items: stretch;
  padding: 8px 0 12px;
  overflow-x: auto;
}
.room {
  flex: 1 1 0;
  min-width: 180px;
  display: flex;
  flex-direction: column;
  position: relative;
}
.room > svg {
  width: 100%;
  height: 22px;
  display: block;
}
/* A sign is written over where it hangs: a field only under the hand. */
.sign :deep(.v-field:not(.v-field--focused, :hover)),
.rackno :deep(.v-field:not(.v-field--focused, :hover)) {
  box-shadow: none;
  background: none;
}
.sign :deep(input),
.rackno :deep(input) {
  text-align: center;
  font-weight: 640;
}
.rackno {
  margin-top: auto;
}
.rackno :deep(input) {
  font-size: var(--t-s);
  font-weight: 560;
}
.racks {
  display: flex;
  flex: 1;
  border: 1.5px solid var(--timber);
  border-top: 0;
  background: var(--sheet);
}
.rack {
  flex: 1 1 0;
  min-width: 96px;
  display: flex;
  flex-direction: column;
  gap: 4px;
  padding: 6px;
  border-right: 1.5px solid var(--timber);
  min-height: 150px;
}
.rack.over {
  background: var(--slate-pale);
}
.stall {
  border: 1px solid var(--edge);
  border-radius: 2px;
  background: var(--paper);
  padding: 4px 8px;
  display: flex;
  flex-direction: column;
  align-items: start;
  cursor: grab;
  font-size: var(--t-s);
}
.stall:hover {
  border-color: var(--ink);
}
.stall b {
  display: flex;
  align-items: baseline;
  gap: 5px;
  font-weight: 640;
  overflow-wrap: anywhere;
}
.stall span {
  color: var(--soft);
  font-size: var(--t-xs);
}
.none {
  color: var(--soft);
  font-size: var(--t-s);
}
.more {
  align-self: center;
  padding: 0 8px;
  font-size: var(--t-s);
}
.below {
  display: grid;
  grid-template-columns: minmax(0, 1.2fr) minmax(0, 1fr);
  gap: 26px;
}
</style>
