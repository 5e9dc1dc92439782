<script setup lang="ts">
import { computed } from "vue";
import type { components } from "../../api/schema.gen";

/**
 * One line per strip of an extent, from first extent to last; a strip that cannot be read is a notch. Arrows
 * move by extent, N to the next short one.
 */
const props = defineProps<{
  extents: number;
  /** Names of the strips of an extent, and where each is missing. */
  lines: string[];
  missing: number[][];
  missingCount: number;
  picked: number | null;
  extent: components["schemas"]["ExtentOut"] | null;
  /** Extents on the fast tier; null where none may lie there. */
  upper: number[] | null;
  /** Extents, from and up to, that no room is set aside for yet. */
  unset: number[][];
  /** Extents, from and up to, that are read from another volume; and in words, from where. */
  through: number[][];
  origin?: string;
}>();
const emit = defineEmits<{ pick: [number: number | null] }>();
/** What is set aside, as runs of a line; and what is not. */
const drawn = computed(() => {
  let at_ = 0;
  const there: number[][] = [];
  const away = [...props.unset, ...props.through] as [number, number][];
  for (const [first, last] of away.sort(([a], [b]) => a - b)) {
    if (first > at_) there.push([at_, first]);
    at_ = last;
  }
  if (at_ < props.extents) there.push([at_, props.extents]);
  return there;
});
const run = (ranges: number[][]) =>
  (ranges as [number, number][]).map(([first, last]) => `M${from(first)} 6H${from(last)}`).join("");
const short = computed(() => [...new Set(props.missing.flat())].sort((a, b) => a - b));
const from = (number: number) => (number / props.extents) * 1000;
const x = (number: number) => ((number + 0.5) / props.extents) * 1000;
function at(event: MouseEvent) {
  const box = (event.currentTarget as Element).getBoundingClientRect();
  emit(
    "pick",
    Math.min(
      props.extents - 1,
      Math.max(0, Math.floor(((event.clientX - box.left) / box.width) * props.extents)),
    ),
  );
}
function onKey(event: KeyboardEvent) {
  const now = props.picked ?? -1;
  if (event.key === "ArrowRight") emit("pick", Math.min(props.extents - 1, now + 1));
  else if (event.key === "ArrowLeft") emit("pick", Math.max(0, now - 1));
  else if (event.key.toLowerCase() === "n") {
    const next = short.value.find((n) => n > now) ?? short.value[0];
    if (next !== undefined) emit("pick", next);
  } else if (event.key === "Escape") emit("pick", null);
  else return;
  event.preventDefault();
}
</script>

<template>
  <div
    class="staff"
    tabindex="0"
    role="slider"
    aria-label="Extents of this volume"
    :aria-valuemin="0"
    :aria-valuemax="extents - 1"
    :aria-valuenow="picked ?? 0"
    :aria-valuetext="picked === null ? 'none picked' : `extent ${picked}`"
    @keydown="onKey"
  >
    <template v-for="(holes, strip) in missing" :key="strip">
      <span>{{ lines[strip] }}</span>
      <svg viewBox="0 0 1000 12" preserveAspectRatio="none" @click="at">
        <path v-if="unset.length" class="unset" :d="run(unset)" />
        <path v-if="through.length" class="through" :d="run(through)" />
        <path class="ln" :d="run(drawn)" />
        <path
          v-if="holes.length"
          class="gp"
          :class="{ many: missingCount > 300 }"
          :d="holes.map((n) => `M${x(n)} 1V11`).join('')"
        />
        <path v-if="picked !== null" class="at" :d="`M${x(picked)} 0V12`" />
      </svg>
    </template>
    <template v-if="upper">
      <span>Fast</span>
      <svg viewBox="0 0 1000 12" preserveAspectRatio="none" @click="at">
        <path class="none" d="M0 6H1000" />
        <path
          v-if="upper.length"
          class="hot"
          :d="upper.map((n) => `M${from(n)} 6H${from(n + 1)}`).join('')"
        />
        <path v-if="picked !== null" class="at" :d="`M${x(picked)} 0V12`" />
      </svg>
    </template>
    <span />
    <p class="foot">
      <span>extent 0</span>
      <span v-if="upper">{{ upper.length.toLocaleString("en") }} on the fast tier</span>
      <span v-if="unset.length">dotted: no room set aside yet</span>
      <span v-if="through.length">thin line: read from {{ origin }}</span>
      <span v-if="missingCount" class="gap"
        ><i /> {{ missingCount.toLocaleString("en") }} strips cannot be read</span
      >
      <span v-if="picked !== null && extent"
        >picked: extent <b>{{ extent.number.toLocaleString("en") }}</b>,
        <template v-if="extent.through">read from {{ origin }}</template>
        <template v-else-if="!extent.strips.length">no room is set aside for it yet</template>
        <template v-for="(s, i) in extent.strips" :key="s.copy_name"
          >{{ i ? ", " : "" }}{{ s.copy_name }} on <span class="mono">{{ s.disk ?? "no disk" }}</span>{{
            s.readable ? "" : " (not readable)"
          }}</template
        ></span
      >
      <span v-else class="faint">pick an extent to see where it lies</span>
      <span>{{ (extents - 1).toLocaleString("en") }}</span>
    </p>
  </div>
</template>

<style scoped>
.staff {
  display: grid;
  grid-template-columns: 54px 1fr;
  font-size: var(--t-xs);
  color: var(--soft);
  line-height: 13px;
  padding-top: 10px;
}
svg {
  width: 100%;
  height: 12px;
  display: block;
  cursor: pointer;
}
.ln {
  stroke: var(--slate);
  stroke-width: 5;
  vector-effect: non-scaling-stroke;
}
.unset {
  stroke: var(--edge);
  stroke-width: 1.5;
  stroke-dasharray: 1.5 4;
  vector-effect: non-scaling-stroke;
}
.through {
  stroke: var(--slate);
  stroke-width: 1.5;
  vector-effect: non-scaling-stroke;
}
.none {
  stroke: var(--rule);
  stroke-width: 1;
  vector-effect: non-scaling-stroke;
}
.hot {
  stroke: var(--hay);
  stroke-width: 7;
  vector-effect: non-scaling-stroke;
}
.gp {
  stroke: var(--short);
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
.gp.many {
  stroke-width: 1;
}
.at {
  stroke: var(--ink);
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
.foot {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding-top: 3px;
  line-height: 16px;
}
.foot b {
  color: var(--ink);
}
.gap {
  display: inline-flex;
  align-items: center;
  gap: 5px;
}
.gap i {
  width: 2px;
  height: 11px;
  background: var(--short);
  display: inline-block;
}
</style>
