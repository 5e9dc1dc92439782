<script setup lang="ts">
import type { components } from "../api/schema.gen";
import { clock } from "../lib/format";
import { pathOf } from "../lib/paths";
import HistoryTable from "./HistoryTable.vue";

/** When a thing was made, and the changes that have touched it since. */
defineProps<{
  made: string;
  at: string;
  change: number | null;
  lines: components["schemas"]["ChangeLine"][];
}>();
</script>

<template>
  <p class="small">
    {{ made }} {{ clock(at)
    }}<template v-if="change">
      by
      <RouterLink class="act" :to="pathOf('change', String(change))"
        >change {{ change }}</RouterLink
      ></template
    >.<template v-if="!lines.length"> Nothing since has touched it.</template>
  </p>
  <HistoryTable v-if="lines.length" :lines="lines" />
</template>
