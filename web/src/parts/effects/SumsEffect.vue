<script setup lang="ts">
import { computed } from "vue";
import type { EffectOf } from "../../lib/effects";
import SumFigure from "../SumFigure.vue";

const props = defineProps<{ effect: EffectOf<"sums">; several: boolean }>();
const hasBefore = computed(() => props.effect.rows.some((r) => r.before));
</script>

<template>
  <VTable class="eff">
    <thead v-if="hasBefore || several">
      <tr>
        <th>{{ several ? effect.pool : "What" }}</th>
        <th v-if="hasBefore">Before</th>
        <th>After</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="row in effect.rows" :key="row.label">
        <td>{{ row.label }}</td>
        <td v-if="hasBefore"><SumFigure v-if="row.before" :figure="row.before" /></td>
        <td><SumFigure v-if="row.after" :figure="row.after" /></td>
      </tr>
    </tbody>
  </VTable>
</template>
