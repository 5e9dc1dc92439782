<script setup lang="ts">
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useSamples, type Samples } from "../api/client";
import { clock, count } from "../lib/format";
import { ceiling, kindsOf, moments, nearest, stretches, type Line } from "../lib/tide";
import ProblemNote from "./ProblemNote.vue";
import StateMark from "./StateMark.vue";

/**
 * What went through a thing, over an hour, a day or a week: above the waterline what went into it, below what
 * came out. Arrows move along it; what else was going on stands underneath.
 */
const props = defineProps<{ of: Samples["of"]; name: string; part?: string; first?: string }>();
const route = useRoute();
const router = useRouter();
const OVERS = ["hour", "day", "week"] as const;
const SECONDS = { hour: 3600, day: 86_400, week: 604_800 };
const MOSTLY = 0.9; // of the time, from where on it is known for all of it
const over = computed(() => OVERS.find((o) => o === route.query.over) ?? "hour");
const kinds = computed(() => kindsOf(props.of));
/** What is drawn where the address names nothing. */
const usual = computed(() => kinds.value.find((k) => k.id === props.first) ?? kinds.value[0]!);
const kind = computed(() => kinds.value.find((k) => k.id === route.query.drawn) ?? usual.value);
const { data, error } = useSamples(() => ({
  of: props.of,
  name: props.name,
  part: props.part ?? "",
  over: over.value,
}));
/** What is drawn is in the address, but for what is drawn first anyway. */
const draw = (part: Record<string, string | undefined>) =>
  router.replace({ query: { ...route.query, ...part } });

const WIDE = 1000;
const HIGH = 100; // of either side of the waterline
const LAST_AFTER = 920; // further right a time of day stands before its line, or it would be cut off
const MOST_MARKS = 8; // said in words
const lines = computed(() => (data.value ? kind.value.lines(data.value) : []));
const below = computed(() => lines.value.some((l) => !l.up));
const top = computed(() =>
  ceiling(Math.max(0, ...lines.value.flatMap((l) => [...l.values, ...l.most].filter((v) => v !== null)))),
);
const x = (at: number) => {
  const { since, until } = data.value!;
  return Math.min(1, Math.max(0, (at - since) / (until - since))) * WIDE;
};
const y = (line: Line, value: number) => HIGH + (line.up ? -1 : 1) * (value / top.value) * HIGH;
const points = (line: Line, values: Line["values"], from: number, upTo: number) =>
  Array.from({ length: upTo - from }, (_, i) => {
    const place = `${x(data.value!.at[from + i]!).toFixed(1)} ${y(line, values[from + i]!).toFixed(1)}`;
    return upTo - from > 1 ? place : `${place}h2`;
  });
/** The area between a line and the waterline, the line itself, and the range of its samples. */
const drawn = computed(() =>
  lines.value.map((line) => {
    const runs = stretches(data.value!.pieces, line.values);
    const path = (values: Line["values"], [from, upTo]: [number, number]) =>
      points(line, values, from, upTo).join("L");
    const at = (i: number) => x(data.value!.at[i]!).toFixed(1);
    return {
      up: line.up,
      words: line.words,
      area: runs
        .map((run) => `M${at(run[0])} ${HIGH}L${path(line.values, run)}L${at(run[1] - 1)} ${HIGH}Z`)
        .join(""),
      over: runs.map((run) => `M${path(line.values, run)}`).join(""),
      range: line.most.length
        ? runs
            .map(
              (run) =>
                `M${path(line.most, run)}L${points(line, line.least, ...run)
                  .reverse()
                  .join("L")}Z`,
            )
            .join("")
        : "",
    };
  }),
);
const times = computed(() => (data.value ? moments(data.value.since, data.value.until) : []));
const picked = ref<number | null>(null); // a moment, which stays while samples come
const at = computed(() => (picked.value === null ? -1 : nearest(data.value?.at ?? [], picked.value)));
const iso = (seconds: number) => new Date(seconds * 1000).toISOString();
const told = (i: number) =>
  lines.value
    .map((l) => {
      const value = l.values[i];
      if (value == null) return `${l.words}: not known`;
      const [least, most] = [l.least[i], l.most[i]];
      const range =
        least != null && most != null ? ` (${kind.value.say(least)} to ${kind.value.say(most)})` : "";
      return `${kind.value.say(value)} ${l.words}${range}`;
    })
    .join(", ");
/** What is said of it: of the moment that is picked, or of all of it. */
const words = computed(() => {
  const s = data.value;
  if (!s || !lines.value.length) return "";
  if (at.value >= 0) return `${clock(iso(s.at[at.value]!))}: ${told(at.value)}.`;
  const sums = kind.value.sums(s);
  const ahead = s.forecasts[kind.value.id as keyof typeof s.forecasts] ?? "";
  if (!sums.length) return `Last: ${told(s.at.length - 1)}. ${ahead}`;
  const say = kind.value.say;
  const known = s.until - s.at[0]! < MOSTLY * SECONDS[s.over] ? ` Known since ${clock(iso(s.at[0]!))}.` : "";
  return (
    sums
      .map(
        (f) =>
          `${say(f.average)} ${f.words} on average, 95 of 100 samples no more than ${say(f.usual)}, ` +
          `the most ${say(f.highest)}.`,
      )
      .join(" ") + known
  );
});
function toward(event: PointerEvent) {
  const box = (event.currentTarget as Element).getBoundingClientRect();
  const { since, until } = data.value!;
  picked.value = since + ((event.clientX - box.left) / box.width) * (until - since);
}
function onKey(event: KeyboardEvent) {
  const last = (data.value?.at.length ?? 0) - 1;
  if (last < 0) return;
  const now = at.value < 0 ? last : at.value;
  const to: Record<string, number> = {
    ArrowRight: now + 1,
    ArrowLeft: at.value < 0 ? last : now - 1,
    Home: 0,
    End: last,
  };
  if (event.key === "Escape" && picked.value !== null) {
    picked.value = null;
    event.stopPropagation();
  } else if (event.key in to) {
    picked.value = data.value!.at[Math.min(last, Math.max(0, to[event.key]!))]!;
    event.preventDefault();
  }
}
/** The newest first; those that go on come before what is over. */
const marks = computed(() =>
  [...(data.value?.marks ?? [])].sort(
    (a, b) => (b.ended ?? Infinity) - (a.ended ?? Infinity) || b.begun - a.begun,
  ),
);
const lasted = (m: Samples["marks"][number]) =>
  `${clock(iso(m.begun))} to ${m.ended === null ? "now" : clock(iso(m.ended))}`;
</script>

<template>
  <div class="tide">
    <div class="sec">
      <h2>{{ of === "port" ? `How it went on ${part}` : "How it went" }}</h2>
      <nav class="lens" aria-label="What is drawn">
        <VBtn
          v-for="k in kinds"
          :key="k.id"
          :aria-pressed="k.id === kind.id"
          @click="draw({ drawn: k.id === usual.id ? undefined : k.id })"
          >{{ k.name }}</VBtn
        >
      </nav>
      <span class="grow" />
      <nav class="lens" aria-label="Over how long">
        <VBtn
          v-for="o in OVERS"
          :key="o"
          :aria-pressed="o === over"
          @click="draw({ over: o === 'hour' ? undefined : o })"
          >{{ o }}</VBtn
        >
      </nav>
    </div>
    <ProblemNote :error="error" />
    <p v-if="data && !lines.length" class="small">
      Nothing is known of it over the last {{ over }}: no sample was taken.
    </p>
    <template v-else-if="data">
      <p class="small said" aria-live="off">{{ words }}</p>
      <div
        class="sea"
        tabindex="0"
        role="slider"
        :aria-label="`${kind.name} over the last ${over}`"
        :aria-valuemin="0"
        :aria-valuemax="Math.max(0, data.at.length - 1)"
        :aria-valuenow="at < 0 ? Math.max(0, data.at.length - 1) : at"
        :aria-valuetext="words"
        @keydown="onKey"
        @pointermove="toward"
        @pointerdown="toward"
        @pointerleave="picked = null"
      >
        <svg
          :viewBox="`0 0 ${WIDE} ${below ? 2 * HIGH : HIGH + 1}`"
          preserveAspectRatio="none"
          aria-hidden="true"
          :class="{ below }"
        >
          <path v-for="t in times" :key="t.at" class="hour" :d="`M${x(t.at)} 0V${2 * HIGH}`" />
          <template v-for="l in drawn" :key="l.words">
            <path class="area" :data-up="l.up" :d="l.area" />
            <path v-if="l.range" class="range" :data-up="l.up" :d="l.range" />
            <path class="line" :data-up="l.up" :d="l.over" />
          </template>
          <path class="water" :d="`M0 ${HIGH}H${WIDE}`" />
          <path v-if="at >= 0" class="at" :d="`M${x(data.at[at]!)} 0V${2 * HIGH}`" />
        </svg>
        <span class="top">{{ kind.say(top) }} {{ below ? lines[0]!.words : "" }}</span>
        <span v-if="below" class="bottom">{{ kind.say(top) }} {{ lines.at(-1)!.words }}</span>
      </div>
      <div class="strip" aria-hidden="true">
        <span
          v-for="(m, i) in marks"
          :key="i"
          :data-lamp="m.lamp"
          :style="{
            left: `${x(m.begun) / 10}%`,
            width: `${(x(m.ended ?? data.until) - x(m.begun)) / 10}%`,
          }"
        />
      </div>
      <div class="times" aria-hidden="true">
        <span
          v-for="t in times"
          :key="t.at"
          :class="{ before: x(t.at) > LAST_AFTER }"
          :style="{ left: `${x(t.at) / 10}%` }"
          >{{ t.words }}</span
        >
      </div>
      <ul v-if="marks.length" class="marks" aria-label="What else was going on">
        <li v-for="(m, i) in marks.slice(0, MOST_MARKS)" :key="i">
          <StateMark :lamp="m.lamp" /> <span class="soft">{{ lasted(m) }}</span>
          <RouterLink v-if="m.change" class="act" :to="`/changes/${m.change}`">{{ m.words }}</RouterLink>
          <RouterLink v-else-if="m.incident" class="act" :to="`/watch/${m.incident}`">{{
            m.words
          }}</RouterLink>
          <template v-else>{{ m.words }}</template>
        </li>
        <li v-if="marks.length > MOST_MARKS" class="soft">
          and {{ count(marks.length - MOST_MARKS, "earlier one") }}, each marked above
        </li>
      </ul>
    </template>
    <p v-else-if="!error" class="small">Reading its samples …</p>
  </div>
</template>

<style scoped>
.tide > .sec {
  flex-wrap: wrap; /* beside something else there is not room for all of it */
}
.sec .lens {
  margin-left: 10px;
}
.said {
  min-height: 2.6em;
}
.sea {
  position: relative;
  touch-action: pan-y;
  outline-offset: 0;
}
svg {
  width: 100%;
  height: 72px;
  display: block;
  cursor: crosshair;
  border-left: 1.5px solid var(--ink);
}
svg.below {
  height: 128px;
}
path {
  fill: none;
  vector-effect: non-scaling-stroke;
}
.hour {
  stroke: var(--rule);
  stroke-width: 1;
}
.water {
  stroke: var(--ink);
  stroke-width: 1.5;
}
.area[data-up="true"] {
  fill: var(--hay);
  opacity: 0.35;
}
.area[data-up="false"] {
  fill: var(--slate);
  opacity: 0.3;
}
.range[data-up="true"] {
  fill: var(--hay);
  opacity: 0.25;
}
.range[data-up="false"] {
  fill: var(--slate);
  opacity: 0.2;
}
.line {
  stroke: var(--hay-line);
  stroke-width: 1.5;
}
.line[data-up="false"] {
  stroke: var(--slate);
}
.at {
  stroke: var(--ink);
  stroke-width: 1;
}
.top,
.bottom {
  position: absolute;
  left: 6px;
  font-size: var(--t-xs);
  color: var(--soft);
  pointer-events: none;
}
.top {
  top: 0;
}
.bottom {
  bottom: 0;
}
.strip {
  position: relative;
  height: 7px;
  margin-top: 2px;
  background: var(--well);
}
.strip span {
  position: absolute;
  top: 0;
  bottom: 0;
  min-width: 3px;
  background: var(--sound);
}
.strip [data-lamp="mending"] {
  background: var(--mending);
}
.strip [data-lamp="watch"] {
  background: var(--watch);
}
.strip [data-lamp="away"] {
  background: var(--away);
}
.strip [data-lamp="not heard"],
.strip [data-lamp="failed"] {
  background: var(--failed);
}
.times {
  position: relative;
  height: 18px;
  overflow: hidden;
  font-size: var(--t-xs);
  color: var(--soft);
}
.times span {
  position: absolute;
  padding-left: 3px;
  white-space: nowrap;
}
.times .before {
  padding: 0 3px 0 0;
  transform: translateX(-100%);
}
.marks {
  list-style: none;
  padding: 2px 0 0;
  font-size: var(--t-s);
}
.marks li {
  display: flex;
  gap: 7px;
  padding: 1px 0;
}
</style>
