<script setup lang="ts">
import { useChanges, useRecords, type Change } from "../../api/client";
import { CHANGE_LAMPS } from "../../lib/changes";
import { clock, percent } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";

const { data: changes, error } = useChanges();
const { data: records } = useRecords();
const progress = (c: Change) =>
  c.state === "running" && c.total_bytes ? percent(c.done_bytes / c.total_bytes) : "";
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Changes</h1>
      <p>Everything that was done to the site, newest first.</p>
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="changes?.length" class="plain">
      <thead>
        <tr>
          <th class="n">No.</th>
          <th>Change</th>
          <th>State</th>
          <th>Who</th>
          <th>Why</th>
          <th>Started</th>
          <th>Ended</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in changes" :key="c.number">
          <td class="n">{{ c.number }}</td>
          <td>
            <RouterLink :to="`/changes/${c.number}`"
              ><b>{{ c.title }}</b></RouterLink
            >
          </td>
          <td>
            <StateMark :lamp="CHANGE_LAMPS[c.state]" /> {{ c.state }} {{ progress(c) }}
            <span v-if="c.waits_for" class="soft">for change {{ c.waits_for.number }}</span>
            <span v-if="c.problem" class="soft">{{ c.problem }}</span>
          </td>
          <td>{{ c.actor }}</td>
          <td class="soft">{{ c.reason }}</td>
          <td class="mono">{{ clock(c.started_at) }}</td>
          <td class="mono">{{ clock(c.ended_at) }}</td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="changes" class="empty">Nothing has been changed yet.</p>
    <section v-if="records?.length" class="besides" aria-label="Besides changes">
      <div class="sec">
        <h2>Besides changes</h2>
        <span class="small">settings, lights, tests, machines that reported in; newest first</span>
      </div>
      <p v-for="r in records" :key="`${r.at} ${r.what}`">
        <span class="mono soft">{{ clock(r.at) }}</span> {{ r.what }} <span class="soft">{{ r.actor }}</span>
      </p>
    </section>
  </main>
</template>

<style scoped>
.besides {
  padding-top: 16px;
  font-size: var(--t-s);
}
.besides p {
  padding: 2px 0;
  border-bottom: 1px solid var(--rule);
}
</style>
