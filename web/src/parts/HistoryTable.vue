<script setup lang="ts">
import type { components } from "../api/schema.gen";
import { CHANGE_LAMPS, CHANGE_WORDS } from "../lib/changes";
import { clock } from "../lib/format";
import StateMark from "./StateMark.vue";

/** Changes that touched a thing, newest first. */
defineProps<{ lines: components["schemas"]["ChangeLine"][] }>();
</script>

<template>
  <VTable v-if="lines.length" class="plain"
    ><caption class="unseen">
      History
    </caption>
    <thead>
      <tr>
        <th class="n">Change</th>
        <th>What</th>
        <th>State</th>
        <th>By</th>
        <th>Asked</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in lines" :key="c.number">
        <td class="n">
          <RouterLink :to="`/changes/${c.number}`">{{ c.number }}</RouterLink>
        </td>
        <td>
          <RouterLink :to="`/changes/${c.number}`">{{ c.title }}</RouterLink>
        </td>
        <td class="state"><StateMark :lamp="CHANGE_LAMPS[c.state]" /> {{ CHANGE_WORDS[c.state] }}</td>
        <td class="soft">{{ c.actor }}</td>
        <td class="soft mono">{{ clock(c.made_at) }}</td>
      </tr>
    </tbody>
  </VTable>
  <p v-else class="soft">No change has touched it.</p>
</template>

<style scoped>
.state {
  white-space: nowrap;
}
</style>
