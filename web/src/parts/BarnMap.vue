<script setup lang="ts">
import { computed, nextTick, ref, useTemplateRef } from "vue";
import type { Disk, Node, Room } from "../api/client";
import { percent, rate, size } from "../lib/format";
import StateMark from "./StateMark.vue";

/**
 * The building: a roof per room, a bay per rack, a stall per node, a bin per disk, in physical order.
 * lit: bytes by disk name; everything else is dimmed. picked: a tag by disk name. chosen: disk names, when
 * choosing.
 * One tab stop; arrows move by bin, bar and name, and by stall; Enter opens or zooms, Space chooses where
 * choosing is on.
 */
const props = withDefaults(
  defineProps<{
    rooms: Room[];
    line?: boolean;
    lit?: Record<string, number> | null;
    picked?: Record<string, string>;
    tags?: Record<string, string>; // a letter under a bin, where the slot number would stand
    arriving?: Record<string, number>;
    leaving?: Record<string, number>;
    chosen?: Set<string> | null;
    work?: Record<string, number | null> | null;
  }>(),
  {
    lit: null,
    picked: () => ({}),
    tags: () => ({}),
    arriving: () => ({}),
    leaving: () => ({}),
    chosen: null,
    work: null,
  },
);
const MOST_WITH_BINS = 96;
const emit = defineEmits<{ open: [disk: Disk]; openNode: [node: Node]; toggle: [disk: Disk]; unlight: [] }>();

const nodes = computed(() => props.rooms.flatMap((room) => room.racks.flatMap((rack) => rack.nodes)));
const tallest = computed(() =>
  Math.max(1, ...props.rooms.flatMap((room) => room.racks.map((rack) => rack.nodes.length))),
);
const binHeight = computed(() => (props.line || tallest.value > 3 ? 26 : tallest.value > 2 ? 46 : 70));
const asLines = computed(() => props.line || nodes.value.length > 24);
/** So many nodes that bins would be dust: one bar per node, and its bins when it is zoomed into. */
const asBars = computed(() => nodes.value.length > MOST_WITH_BINS);
/** Racks stand side by side; where they would be too narrow for their nodes' names, in several rows. */
const NARROWEST = { bars: 104, lines: 130 };
function columnsOf(room: Room): string {
  if (!asLines.value) return `repeat(${room.racks.length}, minmax(0, 1fr))`;
  const least = asBars.value ? NARROWEST.bars : NARROWEST.lines;
  return `repeat(auto-fit, minmax(min(${least}px, 100%), 1fr))`;
}
const zoomed = ref<string | null>(null);
/** Where the keys can stand: on a node's name, and on its bins or its bar. */
interface Stop {
  key: string;
  node: Node;
  disk?: Disk;
}
const stopsOf = (node: Node): Stop[] => [
  { key: `name ${node.name}`, node },
  ...(isBar(node)
    ? [{ key: `bar ${node.name}`, node }]
    : node.disks.map((disk) => ({ key: `disk ${disk.name}`, node, disk }))),
];
const isBar = (node: Node) => asBars.value && zoomed.value !== node.name;
const stops = computed(() => nodes.value.flatMap(stopsOf));
const focused = ref<string | null>(null);
const current = computed(() =>
  stops.value.some((s) => s.key === focused.value) ? focused.value : (stops.value[1]?.key ?? null),
);
const busiest = computed(() => Math.max(1e6, ...Object.values(props.work ?? {}).map((v) => v ?? 0)));

function share(disk: Disk): number {
  if (props.work) return Math.min(1, (props.work[disk.name] ?? 0) / busiest.value);
  return disk.size_bytes ? disk.used_bytes / disk.size_bytes : 0;
}
function usedOf(node: Node): number {
  const pooled = node.disks.filter((d) => d.pool);
  const size = pooled.reduce((sum, d) => sum + d.size_bytes, 0);
  return size ? pooled.reduce((sum, d) => sum + d.used_bytes, 0) / size : 0;
}
function litOf(node: Node): number {
  const size = node.disks.reduce((sum, d) => sum + d.size_bytes, 0);
  return size ? node.disks.reduce((sum, d) => sum + (props.lit?.[d.name] ?? 0), 0) / size : 0;
}
const part = (bytes: number | undefined, disk: Disk) =>
  `${Math.max(bytes ? 3 : 0, ((bytes ?? 0) / disk.size_bytes) * 100)}%`;
const isLit = (disk: Disk) => !props.lit || disk.name in props.lit;
const hasLit = (node: Node) => !props.lit || node.disks.some((d) => d.name in props.lit!);
function note(node: Node): string {
  if (props.chosen) {
    const chosen = node.disks.filter((d) => props.chosen!.has(d.name)).length;
    return chosen ? `${chosen} chosen` : "";
  }
  if (!props.lit) return asLines.value ? "" : node.note;
  const total = node.disks.reduce((sum, d) => sum + (props.lit![d.name] ?? 0), 0);
  if (asLines.value) return total ? size(total) : "";
  return total ? `${size(total)} of it` : "holds none of it";
}
function says(disk: Disk): string {
  const used = props.work
    ? `${rate(props.work[disk.name] ?? 0)} now`
    : disk.role === "capacity"
      ? `${percent(share(disk))} used`
      : "";
  const chosen = props.chosen?.has(disk.name) ? "chosen" : "";
  const role = disk.retiring ? "being emptied" : disk.tier === "fast" ? "fast tier" : disk.role;
  return [
    disk.name,
    role,
    size(disk.size_bytes),
    used,
    chosen,
    disk.state.lamp,
    disk.state.lamp === "sound" ? "" : disk.state.reason,
  ]
    .filter(Boolean)
    .join(", ");
}
const STEPS: Record<string, number> = { ArrowRight: 1, ArrowLeft: -1 };
const STALLS: Record<string, number> = { ArrowDown: 1, ArrowUp: -1 };
const map = useTemplateRef<HTMLElement>("map");
async function stand(stop: Stop | undefined) {
  if (!stop) return;
  focused.value = stop.key;
  await nextTick();
  map.value?.querySelector<HTMLElement>(`[data-stop="${CSS.escape(stop.key)}"]`)?.focus();
}
function besides(stop: Stop, by: number): Stop | undefined {
  const next = nodes.value[nodes.value.indexOf(stop.node) + by];
  const place = stopsOf(stop.node).findIndex((s) => s.key === stop.key);
  return (
    next &&
    stopsOf(next)
      .slice(0, place + 1)
      .at(-1)
  );
}
function onKey(event: KeyboardEvent) {
  const index = stops.value.findIndex((s) => s.key === current.value);
  const stop = stops.value[index];
  if (!stop) return;
  const { node, disk } = stop;
  if (event.key in STEPS) void stand(stops.value[index + STEPS[event.key]!]);
  else if (event.key in STALLS) void stand(besides(stop, STALLS[event.key]!));
  else if (event.key === "Enter" && disk) emit("open", disk);
  else if (event.key === "Enter" && stop.key.startsWith("bar")) zoom(node);
  else if (event.key === "Enter") emit("openNode", node);
  else if (event.key === " " && disk && props.chosen) emit("toggle", disk);
  else if (event.key === "Escape" && zoomed.value === node.name) {
    zoomed.value = null;
    void stand(stopsOf(node)[1]);
    event.stopPropagation();
  } else if (event.key === "Escape" && props.lit) emit("unlight");
  else return;
  event.preventDefault();
}
/** Its bins instead of its bar, and the keys on the first of them. */
function zoom(node: Node) {
  zoomed.value = node.name;
  void stand(stopsOf(node)[1]);
}
function onClick(disk: Disk) {
  focused.value = `disk ${disk.name}`;
  if (props.chosen) emit("toggle", disk);
  else emit("open", disk);
}
</script>

<template>
  <div
    ref="map"
    class="map"
    :class="{ dimmed: lit, line: asLines, low: line, bars: asBars, choosing: chosen }"
    :style="{ '--ch': `${binHeight}px` }"
    role="group"
    aria-label="Barn map"
    @keydown="onKey"
  >
    <div v-for="room in rooms" :key="room.name" class="room">
      <div class="roof">
        <svg viewBox="0 0 100 30" preserveAspectRatio="none" aria-hidden="true">
          <path class="l" d="M0 30 50 2V30Z" />
          <path class="r" d="M50 2 100 30H50Z" />
          <path class="ridge" d="M0 30 50 2 100 30" />
        </svg>
        <span class="sign">{{ room.name }}</span>
      </div>
      <div class="bay" :style="{ gridTemplateColumns: columnsOf(room) }">
        <div v-for="rack in room.racks" :key="rack.name" class="rack">
          <div
            v-for="node in rack.nodes"
            :key="node.name"
            class="stall"
            :class="{ 'has-lit': hasLit(node) }"
            :data-node="node.name"
          >
            <div class="nm">
              <StateMark :lamp="node.worst" />
              <button
                type="button"
                class="name"
                :tabindex="current === `name ${node.name}` ? 0 : -1"
                :title="node.state.reason"
                :data-stop="`name ${node.name}`"
                @focus="focused = `name ${node.name}`"
                @click="emit('openNode', node)"
              >
                {{ node.name }}
              </button>
              <span class="what">{{ note(node) }}</span>
            </div>
            <button
              v-if="isBar(node)"
              type="button"
              class="bar"
              :tabindex="current === `bar ${node.name}` ? 0 : -1"
              :data-stop="`bar ${node.name}`"
              :aria-label="`${node.name}: ${percent(usedOf(node))} used, ${node.worst}. Show its disks.`"
              :title="node.state.reason"
              @click="zoom(node)"
              @focus="focused = `bar ${node.name}`"
            >
              <i v-if="usedOf(node)" :style="{ width: `${usedOf(node) * 100}%` }" /><u
                v-if="lit"
                :style="{ width: `${litOf(node) * 100}%` }"
              />
            </button>
            <div v-else class="cells">
              <button
                v-for="disk in node.disks"
                :key="disk.name"
                type="button"
                class="cell"
                :class="[
                  `r-${disk.role}`,
                  `m-${disk.media}`,
                  {
                    lit: isLit(disk),
                    picked: disk.name in picked,
                    chosen: chosen?.has(disk.name),
                    barred: chosen && !disk.fit,
                    retiring: disk.retiring,
                  },
                ]"
                :tabindex="current === `disk ${disk.name}` ? 0 : -1"
                :aria-label="says(disk)"
                :aria-pressed="chosen ? chosen.has(disk.name) : undefined"
                :title="says(disk)"
                :data-disk="disk.name"
                :data-stop="`disk ${disk.name}`"
                @click="onClick(disk)"
                @focus="focused = `disk ${disk.name}`"
              >
                <span class="lamp"
                  ><b v-if="disk.name in picked" class="tag">{{ picked[disk.name] }}</b
                  ><StateMark
                    v-else-if="disk.role !== 'unclaimed' || disk.state.lamp !== 'sound'"
                    :lamp="disk.state.lamp"
                /></span>
                <span class="bin">
                  <span
                    v-if="share(disk) > 0"
                    class="hay"
                    :class="{ leaves: leaving[disk.name] }"
                    :style="{ height: `${share(disk) * 100}%` }"
                  />
                  <span
                    v-if="lit?.[disk.name]"
                    class="share"
                    :style="{ height: part(lit[disk.name], disk) }"
                  />
                  <span
                    v-if="arriving[disk.name]"
                    class="incoming"
                    :style="{ bottom: `${share(disk) * 100}%`, height: part(arriving[disk.name], disk) }"
                  />
                </span>
                <span v-if="asLines && Object.keys(tags).length" class="slot letter">{{
                  tags[disk.name] ?? ""
                }}</span>
                <span v-if="!asLines" class="slot">{{ /^\d+$/.test(disk.bay) ? disk.bay : "" }}</span>
              </button>
            </div>
          </div>
          <div
            v-for="n in Math.max(0, Math.max(...room.racks.map((r) => r.nodes.length)) - rack.nodes.length)"
            :key="n"
            class="stall free"
          >
            stall {{ rack.nodes.length + n }}, empty
          </div>
          <div class="rackno">{{ rack.name }}</div>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.map {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(320px, 1fr));
  gap: 18px;
  align-items: start;
}
.roof {
  position: relative;
  height: 30px;
}
.roof svg {
  position: absolute;
  inset: 0;
  width: 100%;
  height: 100%;
  overflow: visible;
}
.roof .l {
  fill: var(--eave);
}
.roof .r {
  fill: var(--eave2);
}
.roof .ridge {
  fill: none;
  stroke: var(--timber);
  stroke-width: 1.6;
  vector-effect: non-scaling-stroke;
  stroke-linejoin: round;
}
.sign {
  position: absolute;
  left: 0;
  right: 0;
  bottom: 3px;
  text-align: center;
  font-size: var(--t-s);
  font-weight: 680;
  line-height: 1.1;
}
.bay {
  display: grid;
  border: solid var(--timber);
  border-width: 0 2px 3px;
  background: var(--sheet);
}
.rack {
  padding: 2px 7px 0;
  display: flex;
  flex-direction: column;
  min-width: 0;
}
.rack + .rack {
  box-shadow:
    -1px 0 0 var(--timber),
    inset 1px 0 0 var(--timber);
}
.rackno {
  margin-top: auto;
}
.stall {
  padding: 3px 0;
  border-bottom: 1px solid var(--rule2);
}
.nm {
  display: flex;
  align-items: center;
  gap: 6px;
  font-size: var(--t-s);
  line-height: 16px;
  white-space: nowrap;
  min-width: 0;
}
.name {
  font-weight: 640;
  line-height: 16px;
  overflow: hidden;
  text-overflow: ellipsis;
}
.name:hover {
  text-decoration: underline;
}
.what {
  margin-left: auto;
  font-size: var(--t-xs);
  color: var(--soft);
  overflow: hidden;
  text-overflow: ellipsis;
}
.stall.free {
  flex: 1;
  display: flex;
  align-items: center;
  font-size: var(--t-xs);
  color: var(--faint);
}
.rackno {
  font: 500 var(--t-xs)/17px var(--mono);
  color: var(--soft);
}
.cells {
  min-width: 0;
  display: flex;
  align-items: flex-end;
  gap: 2px;
}
.cell {
  flex: 16 1 0;
  display: flex;
  flex-direction: column;
  min-width: 0;
  padding: 0;
}
.cell.r-boot {
  flex-grow: 9;
  margin-right: 2px;
}
.cell.m-nvme {
  flex-grow: 11;
}
.cell.m-hdd {
  flex-grow: 22;
}
.cell.m-nvme + .cell:not(.m-nvme) {
  margin-left: 3px;
}
.lamp {
  height: 12px;
  display: flex;
  align-items: center;
  justify-content: center;
}
.lamp :deep(svg) {
  width: 9px;
  height: 9px;
}
.bin {
  position: relative;
  display: block;
  height: calc(var(--ch) * var(--tall));
  background: var(--sheet);
  border: 1px solid var(--edge);
  overflow: hidden;
}
.hay {
  position: absolute;
  left: 0;
  right: 0;
  bottom: 0;
  background: var(--hay);
  border-top: 1.5px solid var(--hay-line);
}
.r-boot .bin {
  border: 2.5px solid var(--timber);
  background: repeating-linear-gradient(45deg, var(--sheet) 0 4px, var(--rule) 4px 5px);
}
.r-cache .bin {
  border: 3px double var(--edge);
}
.r-spare .bin {
  border: 1.5px dashed var(--edge);
  background: transparent;
}
.cell.retiring .bin {
  background: repeating-linear-gradient(135deg, var(--sheet) 0 6px, var(--hay-pale) 6px 7.5px);
}
.r-unclaimed .bin {
  border: 1.5px dotted var(--timber);
  background: transparent;
}
.r-unfit .bin {
  background: repeating-linear-gradient(135deg, var(--sheet) 0 3px, var(--rule2) 3px 4px);
}
.slot {
  font: 430 11px/12px var(--mono);
  color: var(--faint);
  text-align: center;
  min-height: 12px;
}
.slot.letter {
  color: var(--soft);
  font-weight: 600;
}
.dimmed .cell:not(.lit),
.choosing .cell.barred {
  opacity: 0.3;
}
.choosing .cell.barred {
  cursor: not-allowed;
}
.dimmed .stall:not(.has-lit) .nm {
  color: var(--soft);
}
.dimmed .cell.lit .hay {
  background: var(--hay-pale);
}
.share {
  position: absolute;
  left: 0;
  right: 0;
  bottom: 0;
  background: var(--slate);
  border-top: 1px solid var(--sheet);
}
.incoming {
  position: absolute;
  left: 0;
  right: 0;
  background: repeating-linear-gradient(135deg, var(--slate) 0 2px, var(--slate-pale) 2px 4px);
  border-top: 1.5px solid var(--slate-deep);
}
.hay.leaves {
  background: repeating-linear-gradient(135deg, var(--sheet) 0 3px, var(--hay) 3px 5.5px);
}
.tag {
  font: 700 11px/13px var(--mono);
  background: var(--slate);
  color: var(--on-slate);
  min-width: 13px;
  text-align: center;
  border-radius: 2px;
  padding: 0 2px;
}
.cell.picked .bin,
.cell.chosen .bin {
  box-shadow: 0 0 0 2px var(--slate);
}
.cell.chosen .bin {
  border: 1px solid var(--slate);
  background: var(--slate-pale);
}
.cell:hover .bin {
  border-color: var(--ink);
}
.bar {
  display: block;
  width: 100%;
  height: 9px;
  border: 1px solid var(--edge);
  background: var(--sheet);
  position: relative;
}
.bar i {
  position: absolute;
  inset: 0 auto 0 0;
  background: var(--hay);
  border-right: 1.5px solid var(--hay-line);
}
.bar u {
  position: absolute;
  inset: 0 auto 0 0;
  background: var(--slate);
}
.bar:hover {
  border-color: var(--ink);
}
.low .roof {
  height: 16px;
}
.low .sign {
  display: none;
}
.line .rack {
  border-bottom: 1px solid var(--rule);
}
.line .stall {
  display: grid;
  grid-template-columns: 88px 1fr;
  align-items: center;
  gap: 6px;
  padding: 0 0 3px;
}
.line .stall.free {
  display: none;
}
.bars .stall {
  grid-template-columns: minmax(0, 1fr);
  gap: 1px;
}
.bars .what:empty {
  display: none;
}
.line .nm {
  flex-wrap: wrap;
}
.line .name {
  flex: 1 1 0; /* beside its mark, however long it is */
  text-align: left;
}
.line .what {
  flex: 0 0 100%;
  margin: 0;
  padding-left: 17px;
  line-height: 13px;
}
</style>
