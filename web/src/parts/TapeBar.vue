<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from "vue";
import { useChanges, type Change, type Lamp } from "../api/client";
import { percent, rate, span } from "../lib/format";
import { doneOf } from "../lib/changes";
import StateMark from "./StateMark.vue";

/** What is running now: at most three, the longest wait last, and the clock. */
defineProps<{ connected: boolean }>();
const { data } = useChanges();
const MOST = 3;
const open = computed(() =>
  (data.value ?? [])
    .filter((c) => ["waiting", "running", "paused"].includes(c.state))
    .sort((a, b) => (a.seconds_left ?? 1e9) - (b.seconds_left ?? 1e9)),
);
const shown = computed(() => open.value.slice(0, MOST));
const now = ref(new Date());
let timer: ReturnType<typeof setInterval>;
onMounted(() => (timer = setInterval(() => (now.value = new Date()), 1000)));
onUnmounted(() => clearInterval(timer));

const lamp = (c: Change): Lamp =>
  c.state === "paused" ? "short" : c.state === "waiting" ? "away" : "mending";
function doing(c: Change): string {
  if (c.state === "paused") return "paused";
  if (c.state === "waiting") return c.waits_for ? `waits for change ${c.waits_for.number}` : "waits its turn";
  return c.total_bytes ? percent(doneOf(c)) : (c.steps.find((s) => s.state === "running")?.title ?? "");
}
</script>

<template>
  <footer class="tape" aria-label="Tape">
    <span class="lab">Tape</span>
    <RouterLink
      v-for="c in shown"
      :key="c.number"
      class="run"
      :to="`/changes/${c.number}`"
      :style="{ '--p': `${doneOf(c) * 100}%` }"
    >
      <StateMark :lamp="lamp(c)" /><b>{{ c.title }}</b
      ><span class="mono">{{ doing(c) }}</span>
      <span v-if="c.rate && c.state === 'running'" class="soft">{{ rate(c.rate) }}</span>
      <span v-if="c.seconds_left && c.state === 'running'" class="soft left"
        >about {{ span(c.seconds_left) }} left</span
      >
    </RouterLink>
    <RouterLink v-if="open.length > MOST" class="run more" to="/changes"
      >and {{ open.length - MOST }} more</RouterLink
    >
    <span v-if="!open.length" class="run idle">Nothing is running.</span>
    <span class="end"
      ><template v-if="!connected"><StateMark lamp="not heard" /> not connected, trying again</template>
      <span class="mono">{{
        now.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" })
      }}</span></span
    >
  </footer>
</template>

<style scoped>
.tape {
  display: flex;
  align-items: stretch;
  background: var(--well);
  border-top: 1.5px solid var(--ink);
  font-size: var(--t-s);
  padding: 0 16px;
  min-width: 0;
}
.lab {
  display: flex;
  align-items: center;
  font-weight: 680;
  padding-right: 14px;
}
.run {
  position: relative;
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 0 12px;
  border-left: 1px solid var(--rule2);
  flex: 1 1 0;
  white-space: nowrap;
  overflow: hidden;
  min-width: 0;
}
.run b {
  font-weight: 620;
  overflow: hidden;
  text-overflow: ellipsis;
}
.run .mono,
.run .soft {
  font-size: var(--t-xs);
}
.run .left {
  margin-left: auto;
}
.run:not(.idle, .more)::after {
  content: "";
  position: absolute;
  left: 0;
  bottom: 0;
  height: 4px;
  width: 100%;
  background: var(--rule);
}
.run:not(.idle, .more)::before {
  content: "";
  position: absolute;
  left: 0;
  bottom: 0;
  height: 4px;
  width: var(--p);
  background: var(--slate);
  z-index: 1;
}
.idle {
  color: var(--soft);
}
.more {
  flex: 0 0 auto;
}
.end {
  display: flex;
  align-items: center;
  gap: 6px;
  padding-left: 12px;
  color: var(--soft);
  white-space: nowrap;
}
</style>
