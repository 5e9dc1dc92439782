<script setup lang="ts">
import { computed } from "vue";
import type { EffectOf } from "../../lib/effects";
import { size, span, terabytes } from "../../lib/format";
import { natural } from "../../lib/natural";
import StateMark from "../StateMark.vue";

const props = defineProps<{ effect: EffectOf<"moved"> }>();
const MOST_DOMAINS = 8;
const SMALL = 5e9; // bytes below which terabytes say nothing
const busiest = (key: "source" | "target") => {
  const sums = new Map<string, number>();
  for (const f of props.effect.flows) sums.set(f[key], (sums.get(f[key]) ?? 0) + f.bytes);
  const most = [...sums].sort((a, b) => b[1] - a[1]).slice(0, MOST_DOMAINS);
  return most.map(([name]) => name).sort(natural);
};
const sources = computed(() => busiest("source"));
const targets = computed(() => busiest("target"));
const flow = (s: string, t: string) => {
  const mine = props.effect.flows.filter((f) => f.source === s && f.target === t);
  const bytes = mine.reduce((sum, f) => sum + f.bytes, 0);
  if (!bytes) return "";
  return bytes < SMALL ? size(bytes) : terabytes(bytes);
};
</script>

<template>
  <template v-if="effect.flows.length">
    <div class="sec">
      <h2>What moves between {{ effect.level }}s</h2>
      <span class="small">TB, from row to column</span>
    </div>
    <VTable class="eff"
      ><caption class="unseen">
        What moves between domains
      </caption>
      <thead>
        <tr>
          <th>from</th>
          <th v-for="t in targets" :key="t">to {{ t }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in sources" :key="s">
          <td>{{ s || "(written new)" }}</td>
          <td v-for="t in targets" :key="t">{{ flow(s, t) }}</td>
        </tr>
      </tbody>
    </VTable>
  </template>
  <p v-if="effect.bytes" class="note">
    <StateMark lamp="sound" />
    <span>
      <b>Data and time:</b> {{ size(effect.bytes) }} to move, about {{ span(effect.seconds) }} at the least,
      held up by {{ effect.bottleneck }}. An estimate: consumers' work makes it longer.
    </span>
  </p>
</template>
