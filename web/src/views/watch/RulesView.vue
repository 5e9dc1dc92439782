<script setup lang="ts">
import { computed } from "vue";
import { useRules, useSaveRule, type Rule } from "../../api/client";
import { count } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import WatchTabs from "./WatchTabs.vue";

/** The watch rules: what each looks for, and of how much it is so. */
const { data, error } = useRules();
const save = useSaveRule();
const rules = computed(() => data.value?.rules ?? []);
const turn = (r: Rule) => save.mutate({ number: r.number, wish: { ...r.wish, on: !r.wish.on } });
const how = (r: Rule) => {
  if (!r.wish.on) return "off";
  if (!r.firing && !r.pending) return "quiet";
  return [r.firing ? `${r.firing} out of bounds` : "", r.pending ? `${r.pending} yet to hold` : ""]
    .filter(Boolean)
    .join(", ");
};
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Watch rules</h1>
      <WatchTabs />
      <p v-if="data">{{ count(rules.length, "rule") }}, {{ rules.filter((r) => r.wish.on).length }} on.</p>
      <span class="grow" />
      <RouterLink class="btn" to="/watch/rules/new">Write a rule</RouterLink>
    </div>
    <ProblemNote :error="error ?? save.error.value" />
    <VTable v-if="rules.length" class="plain">
      <thead>
        <tr>
          <th>Rule</th>
          <th>What it looks for</th>
          <th>It matters</th>
          <th class="n">Looks at</th>
          <th>Now</th>
          <th><span class="unseen">What can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rules" :key="r.number">
          <td class="name">
            <StateMark :lamp="!r.wish.on ? 'away' : r.firing ? 'watch' : 'sound'" />{{ " " }}
            <RouterLink :to="`/watch/rules/${r.number}`"
              ><b>{{ r.wish.name }}</b></RouterLink
            >
          </td>
          <td class="soft">{{ r.sentence }}</td>
          <td>{{ r.wish.severity }}</td>
          <td class="n">{{ r.covers.toLocaleString("en") }}</td>
          <td class="nowrap">{{ how(r) }}</td>
          <td class="acts">
            <VBtn
              class="act"
              :aria-label="`Turn ${r.wish.name} ${r.wish.on ? 'off' : 'on'}`"
              @click="turn(r)"
              >{{ r.wish.on ? "Turn off" : "Turn on" }}</VBtn
            >
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="data" class="empty">
      No rule: nothing is watched for.
      <RouterLink class="act" data-offered to="/watch/rules/new">Write a rule</RouterLink>
    </p>
    <p v-else-if="!error" class="empty">Reading the rules …</p>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 170px;
}
.nowrap {
  white-space: nowrap;
}
.acts {
  text-align: right;
}
</style>
