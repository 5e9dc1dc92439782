<script setup lang="ts">
import { computed } from "vue";
import { useSee, useSilence, useWatch, type Incident, type Lamp } from "../../api/client";
import { count } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import { at, lampOf, lasted, standing } from "./words";
import WatchTabs from "./WatchTabs.vue";

/** What watch rules have found: what goes on, what was over lately, and what could not be told. */
const HOUR = 3600;
const PLURAL: Record<string, string> = {
  node: "Nodes",
  disk: "Disks",
  pool: "Pools",
  volume: "Volumes",
  host: "Hosts",
};
const { data: watch, error } = useWatch();
const see = useSee();
const silence = useSilence();
const failure = computed(() => error.value ?? see.error.value ?? silence.error.value);
const headline = computed(() => {
  if (!watch.value) return "";
  const rules = count(watch.value.rules, "rule");
  const pending = watch.value.pending ? `, ${watch.value.pending} yet to hold` : "";
  if (!watch.value.open.length) return `Nothing is amiss by ${rules}${pending}.`;
  return `${count(watch.value.open.length, "incident")} by ${rules}${pending}.`;
});
const isSilent = (i: Incident) => i.silent_until !== null && i.silent_until > Date.now() / 1000;
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Watch</h1>
      <WatchTabs />
      <p>{{ headline }}</p>
      <span class="grow" />
      <RouterLink class="act" to="/watch/rules/new">Write a rule</RouterLink>
    </div>
    <ProblemNote :error="failure" />
    <p v-if="watch?.nobody" class="nobody">
      <StateMark lamp="watch" /> {{ watch.nobody }}
      <RouterLink class="act" data-offered to="/watch/routes">Say who is told</RouterLink>
    </p>
    <section v-if="watch" aria-label="What goes on">
      <div class="sec"><h2>What goes on</h2></div>
      <VTable v-if="watch.open.length" class="plain">
        <thead>
          <tr>
            <th>Incident</th>
            <th>It matters</th>
            <th>Since</th>
            <th class="n">Alerts left</th>
            <th>Who knows</th>
            <th><span class="unseen">What can be done</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="i in watch.open" :key="i.number">
            <td class="name">
              <StateMark :lamp="lampOf(i)" />{{ " " }}
              <RouterLink :to="`/watch/${i.number}`"
                ><b>{{ i.headline }}</b></RouterLink
              >
            </td>
            <td>{{ i.severity }}</td>
            <td class="nowrap">{{ at(i.begun) }}</td>
            <td class="n">{{ i.left }} of {{ i.alerts }}</td>
            <td class="soft">{{ standing(i) }}</td>
            <td class="acts">
              <VBtn v-if="!i.seen_by" class="act" @click="see.mutate(i.number)">I see to it</VBtn>
              <VBtn
                class="act"
                @click="silence.mutate({ number: i.number, seconds: isSilent(i) ? 0 : HOUR })"
                >{{ isSilent(i) ? "End its silence" : "Silent for an hour" }}</VBtn
              >
            </td>
          </tr>
        </tbody>
      </VTable>
      <p v-else class="empty">
        <template v-if="!watch.rules">No rule is on: nothing is watched for.</template>
        <template v-else
          >Nothing: every figure that a rule looks at is within its limit, or has not been out of it for long
          enough.</template
        >
      </p>
    </section>
    <section v-if="watch?.stuck.length" aria-label="What could not be sent">
      <div class="sec next">
        <h2>What could not be sent</h2>
        <span class="small"
          >It is tried again by itself, for {{ count(watch.tried_days, "day") }} at the most.</span
        >
      </div>
      <VTable class="plain">
        <thead>
          <tr>
            <th>Message</th>
            <th>To</th>
            <th>Made</th>
            <th class="n">Tries</th>
            <th>Why</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="m in watch.stuck" :key="m.number">
            <td class="name">
              <StateMark :lamp="m.state === 'given up' ? 'failed' : 'watch'" /> {{ m.subject }}
            </td>
            <td>{{ m.to }}</td>
            <td class="nowrap">{{ at(m.made) }}</td>
            <td class="n">{{ m.tries }}</td>
            <td class="soft">{{ m.problem }}{{ m.state === "given up" ? " It was given up." : "" }}</td>
          </tr>
        </tbody>
      </VTable>
    </section>
    <div v-if="watch" class="halves">
      <section aria-label="How everything is">
        <div class="sec next"><h2>How everything is</h2></div>
        <VTable class="plain">
          <thead>
            <tr>
              <th>Kind</th>
              <th>How many are how</th>
              <th>The worst of them, and why</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="h in watch.health" :key="h.kind">
              <td>
                <b>{{ PLURAL[h.kind] ?? h.kind }}</b>
              </td>
              <td>
                <div v-for="(n, lamp) in h.counts" :key="lamp" class="nowrap">
                  <StateMark :lamp="lamp as Lamp" /> {{ n.toLocaleString("en") }} {{ lamp }}
                </div>
              </td>
              <td class="soft">
                <div v-for="w in h.worst" :key="w.name" class="why">
                  <RouterLink :to="pathOf(h.kind, w.name)">{{ w.name }}</RouterLink>: {{ w.state.reason }}
                </div>
                <template v-if="!h.worst.length">all as they should be</template>
              </td>
            </tr>
          </tbody>
        </VTable>
      </section>
      <section aria-label="What could be lost today">
        <div class="sec next"><h2>What could be lost today</h2></div>
        <ul class="losses">
          <li v-for="l in watch.losses" :key="l.name">
            <StateMark :lamp="l.state.lamp" />{{ " " }}
            <RouterLink :to="pathOf('pool', l.name)"
              ><b>{{ l.name }}</b></RouterLink
            >: {{ l.state.reason }}
          </li>
        </ul>
        <p v-if="!watch.losses.length" class="empty">There is no pool yet, so nothing to lose.</p>
      </section>
    </div>
    <section v-if="watch" aria-label="Over lately">
      <div class="sec next">
        <h2>Over lately</h2>
        <span class="small">of the last {{ count(watch.recent_days, "day") }}</span>
      </div>
      <VTable v-if="watch.over.length" class="plain">
        <thead>
          <tr>
            <th>Incident</th>
            <th>It mattered</th>
            <th>When</th>
            <th class="n">Alerts</th>
            <th>Who knew</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="i in watch.over" :key="i.number">
            <td class="name">
              <StateMark lamp="sound" />{{ " " }}
              <RouterLink :to="`/watch/${i.number}`"
                ><b>{{ i.headline }}</b></RouterLink
              >
            </td>
            <td>{{ i.severity }}</td>
            <td class="nowrap">{{ lasted(i) }}</td>
            <td class="n">{{ i.alerts }}</td>
            <td class="soft">{{ standing(i) }}</td>
          </tr>
        </tbody>
      </VTable>
      <p v-else class="empty">Nothing was amiss.</p>
    </section>
    <p v-else-if="!error" class="empty">Reading what goes on …</p>
  </main>
</template>

<style scoped>
.nobody {
  padding: 4px 0 8px;
}
.name {
  overflow-wrap: anywhere;
  min-width: 160px;
}
.nowrap {
  white-space: nowrap;
}
.acts {
  text-align: right;
}
.acts > * + * {
  margin-left: 12px;
}
.next {
  padding-top: 16px;
}
.halves {
  display: grid;
  grid-template-columns: minmax(0, 1.4fr) minmax(0, 1fr);
  gap: 26px;
}
.why,
.losses li {
  padding: 2px 0;
  overflow-wrap: anywhere;
}
.losses {
  border-top: 1.5px solid var(--ink);
  padding-top: 6px;
  font-size: var(--t-m);
}
@media (max-width: 1000px) {
  .halves {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
