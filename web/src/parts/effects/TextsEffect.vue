<script setup lang="ts">
import type { EffectOf } from "../../lib/effects";

defineProps<{ effect: EffectOf<"texts"> }>();
const MOST = 60; // rows shown
</script>

<template>
  <template v-if="effect.rows.length">
    <VTable class="eff words">
      <thead>
        <tr>
          <component :is="h ? 'th' : 'td'" v-for="h in effect.heads" :key="h">{{ h }}</component>
        </tr>
      </thead>
      <tbody>
        <tr v-for="t in effect.rows.slice(0, MOST)" :key="t.label + t.before">
          <td>{{ t.label }}</td>
          <td>{{ t.before }}</td>
          <td>{{ t.after }}</td>
        </tr>
      </tbody>
    </VTable>
    <p v-if="effect.rows.length > MOST" class="small">and {{ effect.rows.length - MOST }} more.</p>
  </template>
</template>

<style scoped>
/* Words read from the left; they are of several lines now and then. */
.words :is(th, td) {
  text-align: left;
  vertical-align: top;
  overflow-wrap: anywhere;
}
.words :is(th, td):not(:first-child) {
  padding-left: 14px;
}
</style>
