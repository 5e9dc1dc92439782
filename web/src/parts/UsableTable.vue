<script setup lang="ts">
import { computed } from "vue";
import type { UsableRow } from "../api/client";
import { tebibytes, terabytes } from "../lib/format";
import StateMark from "./StateMark.vue";

/**
 * What other protections would hold: copies as rows, what they are kept apart by as groups. Those that
 * cannot be held keep their place and say why.
 */
const props = defineProps<{ rows: UsableRow[]; few?: boolean }>();
const shown = computed(() =>
  props.few
    ? props.rows.filter(
        (r) => r.usual || (r.copies > 1 && r.copies < 4 && (r.level === "rack" || r.level === "node")),
      )
    : props.rows.filter((r) => r.copies < 5 || !r.why_not),
);
</script>

<template>
  <VTable class="plain"
    ><caption class="unseen">
      Usable by protection
    </caption>
    <thead>
      <tr>
        <th>Copies</th>
        <th>Each in another</th>
        <th class="n">Usable, TB</th>
        <th class="n">TiB</th>
        <th class="n">Holding back, TB</th>
        <th>Heals</th>
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="r in shown"
        :key="`${r.level}${r.copies}`"
        :class="{ usual: r.usual, not: r.why_not }"
        :title="r.words"
      >
        <td>{{ r.copies }}{{ r.usual ? ", usual" : "" }}</td>
        <td>{{ r.level }}</td>
        <template v-if="r.why_not"
          ><td colspan="4" class="soft">{{ r.why_not }}</td></template
        >
        <template v-else
          ><td class="n">{{ terabytes(r.usable) }}</td>
          <td class="n soft">{{ tebibytes(r.usable) }}</td>
          <td class="n">{{ terabytes(r.with_headroom) }}</td>
          <td><StateMark :lamp="r.heals ? 'sound' : 'watch'" /> {{ r.heals ? "yes" : "no" }}</td></template
        >
      </tr>
    </tbody>
  </VTable>
</template>

<style scoped>
td {
  height: 24px !important;
  padding-top: 2px !important;
  padding-bottom: 2px !important;
}
.usual td {
  font-weight: 640;
}
</style>
