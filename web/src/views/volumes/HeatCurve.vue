<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useShare, type Heat } from "../../api/client";
import { binarySize, milliseconds, percent, size, span } from "../../lib/format";

/**
 * What the hottest part of a volume takes of all that is asked of it: drawn over its bytes, the hottest
 * first. Arrows move along it.
 */
const props = defineProps<{ name: string; heat: Heat }>();
const SETTLE = 250; // ms at one place before it is asked what that share would bring
const WIDE = 1000;
const HIGH = 120;
const points = computed(() => props.heat.points);
const all = computed(() => points.value.at(-1)!);
const x = (bytes: number) => (bytes / all.value.bytes) * WIDE;
const y = (served: number) => HIGH - served * HIGH;
const line = computed(() => points.value.map((p) => `${x(p.bytes)} ${y(p.served)}`).join("L"));
type Point = Heat["points"][number];
const stem = (p: Point) => `M${x(p.bytes)} ${HIGH}V${y(p.served)}`;
/** With a bar across its head. */
const upright = (p: Point) => `${stem(p)}M${x(p.bytes) - 6} ${y(p.served)}H${x(p.bytes) + 6}`;
/** Where a tenth of it ends, until another place is picked. */
const USUAL = 0.1;
const picked = ref<number | null>(null);
const at = computed(() => {
  const usual = points.value.findIndex((p) => p.bytes >= USUAL * all.value.bytes);
  return Math.min(picked.value ?? usual, points.value.length - 1);
});
const here = computed(() => points.value[at.value]!);
const share = computed(() => here.value.bytes / all.value.bytes);
const words = computed(
  () =>
    `The hottest ${percent(share.value)}, ${size(here.value.bytes)}, ` +
    `take ${percent(here.value.served)} of it.`,
);
/** What its consumers get: how much at a time, and how quickly. */
const times = computed(() => {
  const { reads, block_bytes, mean_seconds, late_seconds } = props.heat.pace;
  if (reads === null || block_bytes === null || mean_seconds === null || late_seconds === null) return "";
  return (
    `${percent(reads)} of them reads, ${binarySize(block_bytes)} each, done in ` +
    `${milliseconds(mean_seconds)} on average and 99 of 100 within ${milliseconds(late_seconds)}`
  );
});
const settled = ref<number | null>(null);
let timer: ReturnType<typeof setTimeout> | undefined;
watch(picked, () => {
  clearTimeout(timer);
  timer = setTimeout(() => (settled.value = Math.round(share.value * 100)), SETTLE);
});
/** Shares that a policy may have; beyond, all of it lies there. */
const MOST = 90;
const { data: served } = useShare(
  () => props.name,
  () => (settled.value !== null && settled.value <= MOST ? settled.value : null),
);
const percents = (now: number, then: number) => `${percent(now)} → ${percent(then)}`;
function nearest(event: PointerEvent) {
  if (!event.buttons) return;
  const box = (event.currentTarget as Element).getBoundingClientRect();
  const bytes = ((event.clientX - box.left) / box.width) * all.value.bytes;
  const found = points.value.findIndex((p) => p.bytes >= bytes);
  picked.value = found < 0 ? points.value.length - 1 : found;
}
function onKey(event: KeyboardEvent) {
  const last = points.value.length - 1;
  const to: Record<string, number> = {
    ArrowRight: at.value + 1,
    ArrowUp: at.value + 1,
    ArrowLeft: at.value - 1,
    ArrowDown: at.value - 1,
    Home: 0,
    End: last,
  };
  if (!(event.key in to)) return;
  picked.value = Math.min(last, Math.max(0, to[event.key]!));
  event.preventDefault();
}
</script>

<template>
  <p v-if="!heat.points.length" class="small">
    {{
      heat.watched_seconds
        ? `Nothing has been asked of it in ${span(heat.watched_seconds)}.`
        : "Its nodes have not told yet what is asked of it."
    }}
  </p>
  <template v-else>
    <p class="small">
      {{ Math.round(heat.operations_per_second).toLocaleString("en") }} operations a second, as its nodes told
      over {{ span(heat.watched_seconds) }}<template v-if="times">: {{ times }}</template
      >. {{ words }}
      <template v-if="heat.upper?.extents">
        What lies on the fast tier, {{ size(heat.upper.bytes) }}, takes {{ percent(heat.upper.served) }} of it
        now.
      </template>
    </p>
    <div
      class="curve"
      tabindex="0"
      role="slider"
      aria-label="The hottest part of it"
      :aria-valuemin="0"
      :aria-valuemax="100"
      :aria-valuenow="Math.round(share * 100)"
      :aria-valuetext="words"
      @keydown="onKey"
      @pointerdown="nearest"
      @pointermove="nearest"
    >
      <svg :viewBox="`0 0 ${WIDE} ${HIGH}`" preserveAspectRatio="none" aria-hidden="true">
        <path class="even" :d="`M0 ${HIGH}L${WIDE} 0`" />
        <path class="under" :d="`M0 ${HIGH}L${line}L${WIDE} ${HIGH}Z`" />
        <path class="over" :d="`M${line}`" />
        <path v-if="heat.upper?.extents" class="stands" :d="upright(heat.upper)" />
        <path class="at" :d="`${stem(here)}M0 ${y(here.served)}H${x(here.bytes)}`" />
      </svg>
    </div>
    <p class="foot">
      <span>its hottest byte</span>
      <span class="faint"
        >the straight line: if all of it were asked for alike{{
          heat.upper?.extents ? "; the upright: what lies on the fast tier" : ""
        }}</span
      >
      <span>all {{ size(all.bytes) }}</span>
    </p>
    <VTable v-if="settled !== null && served?.length" class="served" density="compact">
      <thead>
        <tr>
          <th scope="col">Were its share of the fast tier {{ settled }}%</th>
          <th scope="col" class="n">it would take there</th>
          <th scope="col" class="n">extents there</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in served" :key="s.volume">
          <td>{{ s.volume }}</td>
          <td class="n">{{ percents(s.now, s.then) }} of what is asked</td>
          <td class="n">
            {{ s.extents_now.toLocaleString("en") }} → {{ s.extents_then.toLocaleString("en") }}
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-if="settled !== null && served?.[0]?.short_of_room" class="small">
      More of it would find no room there, up to the fill line.
    </p>
  </template>
</template>

<style scoped>
.curve {
  border-left: 1.5px solid var(--ink);
  border-bottom: 1.5px solid var(--ink);
  touch-action: none;
}
svg {
  width: 100%;
  height: 96px;
  display: block;
  cursor: ew-resize;
}
path {
  fill: none;
  vector-effect: non-scaling-stroke;
}
.even {
  stroke: var(--rule);
  stroke-width: 1;
}
.under {
  fill: var(--hay);
  opacity: 0.35;
}
.over {
  stroke: var(--hay);
  stroke-width: 2;
}
.stands {
  stroke: var(--hay-line);
  stroke-width: 3;
}
.at {
  stroke: var(--slate);
  stroke-width: 2;
}
.served {
  font-size: var(--t-s);
  margin-top: 6px;
}
.served th:first-child,
.served td:first-child {
  padding-left: 0;
}
.served .n {
  text-align: right;
}
.served td.n {
  font-family: var(--mono);
}
.foot {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding-top: 3px;
  font-size: var(--t-xs);
  color: var(--soft);
}
</style>
