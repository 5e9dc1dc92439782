<script setup lang="ts">
import { computed } from "vue";
import type { Lane } from "../api/client";
import { count, transport } from "../lib/format";
import { pathOf } from "../lib/paths";
import CommandLine from "./CommandLine.vue";
import StateMark from "./StateMark.vue";

/**
 * Ways of volumes to hosts, one row each: a gate for every step that someone has to take. Passed is filled,
 * the missing one is open with its cure under it, those after it are faint, and of dashed ones nobody tells.
 */
const props = defineProps<{ lanes: Lane[]; by: "host" | "volume"; both?: boolean }>();
type Gate = Lane["gates"][number]["gate"];
/** Gates that are on the way of any of them, in the order of the work. */
const gates = computed(() => {
  const some = new Map(props.lanes.flatMap((lane) => lane.gates.map((g) => [g.gate, g.place])));
  return [...some.keys()].sort((a, b) => some.get(a)! - some.get(b)!);
});
const at = (lane: Lane, gate: Gate) => lane.gates.find((g) => g.gate === gate);
const short = (lane: Lane) => lane.live > 0 && lane.live < lane.paths.length;
/** How a gate looks: a connection by some of its paths alone is doubtful. */
const look = (lane: Lane, gate: Gate) =>
  gate === "connected" && short(lane) ? "doubt" : at(lane, gate)!.passage;
/** Whether the line is drawn as walked up to here. */
const walked = (lane: Lane, gate: Gate) => {
  const upTo = gates.value.slice(0, gates.value.indexOf(gate) + 1);
  return upTo.every((g) => (at(lane, g)?.passage ?? "passed") === "passed");
};
const use = (lane: Lane) => (lane.read_only ? "to read" : "to read and write");
const now = (lane: Lane) => {
  if (lane.mounted) return `mounted at ${lane.mounted}`;
  return lane.live ? "connected" : "not connected";
};
const cure = (lane: Lane) => lane.missing ?? lane.untold;
const lost = (lane: Lane) => (short(lane) ? lane.paths.filter((p) => !p.live) : []);
const href = (lane: Lane) => (props.by === "host" ? pathOf("host", lane.host) : pathOf("reach", lane.volume));
</script>

<template>
  <ol class="lanes" :style="{ '--gates': gates.length }">
    <li class="lane head" aria-hidden="true">
      <span>{{ by === "host" ? "Host" : "Volume" }}</span>
      <div class="gates">
        <span v-for="g in gates" :key="g">{{ g }}</span>
      </div>
      <span>Now</span>
    </li>
    <li v-for="lane in lanes" :key="`${lane.volume} ${lane.host}`" class="lane" :data-lane="lane[by]">
      <div class="who">
        <RouterLink :to="href(lane)"
          ><b>{{ lane[by] }}</b></RouterLink
        >
        <span v-if="both" class="small"
          ><RouterLink :to="pathOf('reach', lane.volume)">{{ lane.volume }}</RouterLink
          >,</span
        >
        <span class="small">{{ use(lane) }}, {{ transport(lane.transport) }}</span>
      </div>
      <div class="gates">
        <div v-for="g in gates" :key="g" class="cell" :class="{ walked: walked(lane, g) }">
          <span
            v-if="at(lane, g)"
            class="gate"
            role="img"
            :data-gate="g"
            :data-passage="look(lane, g)"
            :aria-label="`${g}: ${look(lane, g) === 'doubt' ? 'in part' : look(lane, g)}`"
            :title="at(lane, g)!.reason"
            ><svg viewBox="0 0 26 22"><path d="M3 22V8L13 1 23 8V22" /></svg
          ></span>
        </div>
      </div>
      <div class="small now">
        <StateMark v-if="lane.state.lamp !== 'sound'" :lamp="lane.state.lamp" /> {{ now(lane) }}<br />{{
          `${lane.live} of ${count(lane.paths.length, "path")}`
        }}
      </div>
      <div v-if="cure(lane) || lost(lane).length" class="cure">
        <template v-if="cure(lane)">
          <p>
            <b>{{ cure(lane)!.gate }}</b>: {{ cure(lane)!.reason }}
            <template v-if="cure(lane)!.commands.length">On {{ lane.host }}:</template>
          </p>
          <CommandLine v-for="c in cure(lane)!.commands" :key="c" :text="c" />
          <p v-if="cure(lane)!.commands.length && lane.noticed" class="soft">
            This goes on by itself as soon as it is done.
          </p>
        </template>
        <template v-for="p in lost(lane)" :key="p.portal">
          <p>
            <b>path by {{ p.node }}, {{ p.portal }}</b
            >: {{ p.reason }}
          </p>
          <CommandLine v-for="c in p.commands" :key="c" :text="c" />
        </template>
      </div>
    </li>
  </ol>
</template>

<style scoped>
.lane {
  display: grid;
  grid-template-columns: 150px minmax(0, 1fr) 170px;
  gap: 0 18px;
  align-items: center;
  padding: 8px 0;
  border-bottom: 1px solid var(--rule);
}
.lane.head {
  padding: 4px 0;
  border-top: 1.5px solid var(--ink);
  font-size: var(--t-xs);
  color: var(--soft);
}
.gates {
  display: grid;
  grid-template-columns: repeat(var(--gates), minmax(0, 1fr));
  text-align: center;
}
@media (max-width: 1000px) {
  .lane {
    grid-template-columns: 120px minmax(0, 1fr) 120px;
    gap: 0 10px;
  }
  .head .gates {
    font-size: 11px;
  }
}
.head .gates span {
  padding: 0 2px;
}
.who {
  display: grid;
  min-width: 0;
  overflow-wrap: anywhere;
}
.who a:hover {
  text-decoration: underline;
}
.cell {
  height: 26px;
  display: grid;
  place-items: end center;
  background: linear-gradient(var(--rule2), var(--rule2)) 0 20px / 100% 1px no-repeat;
}
.cell.walked {
  background: linear-gradient(var(--slate), var(--slate)) 0 19px / 100% 3px no-repeat;
}
.gate svg {
  width: 26px;
  height: 22px;
  display: block;
  overflow: visible;
}
.gate path {
  stroke: var(--ink);
  stroke-width: 1.8;
  fill: var(--slate-pale);
}
.gate[data-passage="open"] path {
  stroke: var(--failed);
  stroke-width: 2.4;
  fill: var(--paper);
}
.gate[data-passage="after"] path {
  stroke: var(--rule2);
  fill: var(--paper);
}
.gate[data-passage="untold"] path {
  stroke: var(--soft);
  stroke-dasharray: 3 2.5;
  fill: var(--paper);
}
.gate[data-passage="doubt"] path {
  stroke: var(--watch);
  stroke-width: 2.2;
  stroke-dasharray: 3 2.5;
  fill: var(--paper);
}
.now {
  overflow-wrap: anywhere;
}
.cure {
  grid-column: 2 / -1;
  background: var(--well);
  padding: 7px 12px;
  margin-top: 7px;
  font-size: var(--t-s);
}
.cure p {
  padding: 1px 0;
}
</style>
