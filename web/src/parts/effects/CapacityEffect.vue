<script setup lang="ts">
import { computed } from "vue";
import type { EffectOf } from "../../lib/effects";
import { terabytes } from "../../lib/format";

const props = defineProps<{ effect: EffectOf<"capacity"> }>();
const several = computed(() => new Set(props.effect.rows.map((c) => c.pool)).size > 1);
</script>

<template>
  <div class="sec">
    <h2>Capacity at every step</h2>
    <span class="small">TB</span>
  </div>
  <VTable class="eff"
    ><caption class="unseen">
      Capacity at every step
    </caption>
    <thead>
      <tr>
        <th>{{ several ? "Pool, and when" : "When" }}</th>
        <th>Raw</th>
        <th>Usable</th>
        <th>Free</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in effect.rows" :key="c.pool + c.after">
        <td>{{ several ? `${c.pool}, ` : "" }}{{ c.after }}</td>
        <td>{{ terabytes(c.raw) }}</td>
        <td>{{ terabytes(c.usable) }}</td>
        <td>{{ terabytes(c.free) }}</td>
      </tr>
    </tbody>
  </VTable>
</template>
