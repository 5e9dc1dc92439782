<script setup lang="ts">
import { computed } from "vue";
import { useIncident, useSee, useSilence, type AlertFacts } from "../../api/client";
import { count, say } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import { kindFor } from "../../lib/tide";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import TideGraph from "../../parts/TideGraph.vue";
import MessageTable from "./MessageTable.vue";
import { at, lampOf, lasted, standing } from "./words";

/** An incident: what is or was amiss with which things, who is told, and what is done about it. */
const props = defineProps<{ number: number }>();
const { data: page, error } = useIncident(() => props.number);
const see = useSee();
const silence = useSilence();
const SILENCES = [
  [3600, "an hour"],
  [8 * 3600, "8 hours"],
  [24 * 3600, "a day"],
] as const;
const one = computed(() => page.value?.incident);
const failure = computed(() => error.value ?? see.error.value ?? silence.error.value);
const isSilent = computed(() => (one.value?.silent_until ?? 0) > Date.now() / 1000);
/** The first thing that is still there and that is not only unheard. */
const drawn = computed(() => {
  const known = page.value?.alerts.filter((a) => a.thing) ?? [];
  return known.find((a) => !a.absent) ?? known[0];
});
const page_of = (a: AlertFacts) => pathOf(a.kind === "port" ? "node" : a.kind, a.thing);
const few = (names: string[]) =>
  say(names.length > 4 ? [...names.slice(0, 3), `${names.length - 3} more`] : names);
</script>

<template>
  <main class="page">
    <ProblemNote :error="failure" />
    <template v-if="page && one">
      <div class="headline">
        <h1><StateMark :lamp="lampOf(one)" /> {{ one.headline }}</h1>
        <p>
          {{ one.ended === null ? `Goes on ${lasted(one)}` : `Was over: ${lasted(one)}` }};
          {{ standing(one) }}.
        </p>
        <span class="grow" />
        <template v-if="one.ended === null">
          <VBtn v-if="isSilent" class="act" @click="silence.mutate({ number, seconds: 0 })"
            >End its silence</VBtn
          >
          <template v-else>
            <span class="small">Silent for</span>
            <VBtn
              v-for="[seconds, words] in SILENCES"
              :key="seconds"
              class="act"
              :aria-label="`Silent for ${words}`"
              @click="silence.mutate({ number, seconds })"
              >{{ words }}</VBtn
            >
          </template>
          <VBtn v-if="!one.seen_by" class="btn" @click="see.mutate(number)">I see to it</VBtn>
        </template>
      </div>
      <section aria-label="Alerts">
        <div class="sec">
          <h2>What is amiss</h2>
          <span class="small">{{ count(one.alerts, "alert") }}, {{ one.left }} of them still so</span>
        </div>
        <VTable class="plain">
          <thead>
            <tr>
              <th>Thing</th>
              <th>How it is</th>
              <th>Rule</th>
              <th>Used by</th>
              <th>Carried by</th>
              <th>Fired</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(a, i) in page.alerts" :key="i">
              <td class="name">
                <StateMark :lamp="a.ended === null ? lampOf(one) : 'sound'" />{{ " " }}
                <RouterLink v-if="a.thing" :to="page_of(a)"
                  ><b>{{ a.name }}</b></RouterLink
                >
                <b v-else>{{ a.name }}</b>
                <div class="soft">{{ a.kind }}</div>
              </td>
              <td>{{ a.said }} {{ a.why }}</td>
              <td>
                <RouterLink :to="`/watch/rules/${a.rule_number}`">{{ a.rule }}</RouterLink>
              </td>
              <td class="soft">{{ few(a.consumers) || "nobody" }}</td>
              <td class="soft">{{ few(a.carriers) || "nothing else" }}</td>
              <td class="nowrap">{{ at(a.fired) }}</td>
            </tr>
          </tbody>
        </VTable>
        <p v-if="one.alerts > page.alerts.length" class="small">
          and {{ (one.alerts - page.alerts.length).toLocaleString("en") }} more
        </p>
      </section>
      <section v-if="drawn" class="next" :aria-label="`How ${drawn.thing} went`">
        <TideGraph
          :of="drawn.kind"
          :first="drawn.absent ? undefined : kindFor(drawn.metric)"
          :name="drawn.thing"
          :part="drawn.kind === 'port' ? drawn.name.slice(drawn.thing.length + 1) : undefined"
        />
      </section>
      <section aria-label="What was told">
        <div class="sec next"><h2>What was told</h2></div>
        <MessageTable v-if="page.messages.length" :messages="page.messages" />
        <p v-else class="empty">Nothing yet.</p>
      </section>
    </template>
    <p v-else-if="!error" class="empty">Reading what it is …</p>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 130px;
}
.nowrap {
  white-space: nowrap;
}
.next {
  padding-top: 16px;
}
</style>
