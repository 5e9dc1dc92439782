<script setup lang="ts">
import { computed, ref } from "vue";
import type { Trial, WatchRule } from "../../api/client";
import { ceiling, moments, stretches } from "../../lib/tide";
import { said } from "./words";

/**
 * A rule on the curve of what happened: the limit, which can be dragged, the level from which on it is over,
 * and below when it would have been quiet, yet to hold, and told of.
 */
const props = defineProps<{ trial: Trial; bounds: NonNullable<WatchRule["bounds"]> | null }>();
const emit = defineEmits<{ limit: [value: number] }>();
const WIDE = 1000;
const HIGH = 220;
const ROOM = 1.15; // above what is highest
const STEP = 0.05; // of the height, by a key
const top = computed(() => {
  const known = props.trial.values.filter((v) => v !== null);
  return ceiling(Math.max(0, ...known, props.bounds?.limit ?? 0) * ROOM);
});
const x = (at: number) => {
  const { since, until } = props.trial;
  return Math.min(1, Math.max(0, (at - since) / (until - since))) * WIDE;
};
const y = (value: number) => HIGH - (Math.min(value, top.value) / top.value) * HIGH;
const line = computed(() =>
  stretches(props.trial.pieces, props.trial.values)
    .map(([from, upTo]) => {
      const points = Array.from({ length: upTo - from }, (_, i) => {
        const row = from + i;
        return `${x(props.trial.at[row]!).toFixed(1)} ${y(props.trial.values[row]!).toFixed(1)}`;
      });
      return `M${points.join("L")}${points.length === 1 ? "h2" : ""}`;
    })
    .join(""),
);
const times = computed(() => moments(props.trial.since, props.trial.until));
const above = computed(() => props.bounds?.way !== "below");
const shade = computed(() => {
  if (!props.bounds) return "";
  const at = y(props.bounds.limit);
  return above.value ? `M0 0H${WIDE}V${at}H0Z` : `M0 ${at}H${WIDE}V${HIGH}H0Z`;
});
const spans = computed(() =>
  props.trial.spans.map((s) => {
    const end = s.ended ?? props.trial.until;
    const held = s.fired ?? end;
    const told = s.fired === null ? null : ([x(s.fired), x(end)] as const);
    return { pending: [x(s.since), x(held)] as const, told };
  }),
);
const box = ref<SVGElement | null>(null);
const dragging = ref(false);
function drag(event: PointerEvent) {
  if (!dragging.value || !box.value) return;
  const { top: edge, height } = box.value.getBoundingClientRect();
  const part = 1 - Math.min(1, Math.max(0, (event.clientY - edge) / height));
  emit("limit", Number((part * top.value).toPrecision(2)));
}
function onKey(event: KeyboardEvent) {
  const way = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 }[event.key];
  if (!way || !props.bounds) return;
  event.preventDefault();
  const value = Math.max(0, props.bounds.limit + way * STEP * top.value);
  emit("limit", Number(value.toPrecision(2)));
}
</script>

<template>
  <div class="curve">
    <div class="plot">
      <span class="edge" :style="{ top: '0' }">{{ said(trial.unit, top) }}</span>
      <span class="edge" :style="{ top: '100%' }">0</span>
      <svg
        ref="box"
        :viewBox="`0 0 ${WIDE} ${HIGH}`"
        preserveAspectRatio="none"
        aria-hidden="true"
        @pointermove="drag"
        @pointerup="dragging = false"
        @pointerleave="dragging = false"
      >
        <path v-if="shade" class="shade" :d="shade" />
        <path v-for="t in times" :key="t.at" class="hour" :d="`M${x(t.at)} 0V${HIGH}`" />
        <path v-for="(s, i) in spans" :key="i" class="fired" :d="s.told ? `M${s.told[0]} 0V${HIGH}` : ''" />
        <path class="line" :d="line" />
        <path v-if="bounds" class="clear" :d="`M0 ${y(bounds.clear)}H${WIDE}`" />
        <path v-if="bounds" class="limit" :d="`M0 ${y(bounds.limit)}H${WIDE}`" />
        <path
          v-if="bounds"
          class="grip"
          :d="`M0 ${y(bounds.limit)}H${WIDE}`"
          @pointerdown.prevent="dragging = true"
        />
      </svg>
      <span
        v-if="bounds"
        class="edge handle"
        role="slider"
        tabindex="0"
        aria-label="Limit"
        :aria-valuemin="0"
        :aria-valuemax="top"
        :aria-valuenow="bounds.limit"
        :aria-valuetext="said(trial.unit, bounds.limit)"
        :style="{ top: `${(y(bounds.limit) / HIGH) * 100}%` }"
        @keydown="onKey"
        >{{ said(trial.unit, bounds.limit) }}</span
      >
    </div>
    <div class="when" aria-hidden="true">
      <span v-for="t in times" :key="t.at" :style="{ left: `${(x(t.at) / WIDE) * 100}%` }">{{
        t.words
      }}</span>
    </div>
    <svg class="strip" :viewBox="`0 0 ${WIDE} 10`" preserveAspectRatio="none" aria-hidden="true">
      <defs>
        <pattern id="hatch" width="6" height="10" patternUnits="userSpaceOnUse" patternTransform="skewX(-30)">
          <path d="M1 0V10" stroke="var(--hay-line)" stroke-width="2" />
        </pattern>
      </defs>
      <template v-for="(s, i) in spans" :key="i">
        <rect
          :x="s.pending[0]"
          y="0"
          :width="Math.max(2, s.pending[1] - s.pending[0])"
          height="10"
          fill="url(#hatch)"
        />
        <rect
          v-if="s.told"
          :x="s.told[0]"
          y="0"
          :width="Math.max(2, s.told[1] - s.told[0])"
          height="10"
          fill="var(--failed)"
        />
      </template>
    </svg>
    <p class="small">blank: quiet · hatched: out of bounds, and not yet for long enough · solid: told</p>
  </div>
</template>

<style scoped>
.curve {
  padding-left: 74px;
}
.plot {
  position: relative;
}
svg {
  display: block;
  width: 100%;
}
.plot svg {
  height: 220px;
  border-bottom: 1.5px solid var(--ink);
  overflow: visible;
}
.edge {
  position: absolute;
  left: -74px;
  width: 68px;
  text-align: right;
  transform: translateY(-50%);
  font-size: var(--t-xs);
  color: var(--soft);
  white-space: nowrap;
}
.handle {
  color: var(--ink);
  font-weight: 650;
  background: var(--paper);
  cursor: ns-resize;
}
path {
  fill: none;
  vector-effect: non-scaling-stroke;
}
.shade {
  fill: var(--well);
}
.hour {
  stroke: var(--rule);
}
.line {
  stroke: var(--slate);
  stroke-width: 1.6;
}
.limit {
  stroke: var(--ink);
  stroke-width: 1.6;
}
.clear {
  stroke: var(--edge);
  stroke-dasharray: 3 3;
}
.fired {
  stroke: var(--failed);
  stroke-dasharray: 2 3;
}
.grip {
  stroke: transparent;
  stroke-width: 14;
  pointer-events: stroke;
  cursor: ns-resize;
}
.when {
  position: relative;
  height: 20px;
  font-size: var(--t-xs);
  color: var(--soft);
}
.when span {
  position: absolute;
  padding-left: 4px;
  white-space: nowrap;
}
.when span:last-child {
  transform: translateX(-100%);
}
.strip {
  height: 14px;
  border: 1px solid var(--edge);
}
.small {
  padding-top: 4px;
}
</style>
