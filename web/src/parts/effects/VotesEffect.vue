<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";
import StateMark from "../StateMark.vue";

defineProps<{ effect: EffectOf<"votes"> }>();
</script>

<template>
  <template v-if="effect.rows.length">
    <div class="sec">
      <h2>If this is lost</h2>
      <span class="small">votes</span>
    </div>
    <VTable class="eff words">
      <thead>
        <tr>
          <th>What is lost</th>
          <th>Votes lost</th>
          <th>Left</th>
          <th>The rest</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="l in effect.rows" :key="l.what">
          <td>{{ l.what }}</td>
          <td>{{ l.votes_lost }}</td>
          <td>{{ l.votes_left }}</td>
          <td>
            <StateMark :lamp="l.decides ? 'sound' : 'failed'" />
            {{ l.decides ? "decides" : "decides nothing" }}
          </td>
        </tr>
      </tbody>
    </VTable>
  </template>
</template>
