<script setup lang="ts">
import { computed } from "vue";
import type { ClusterPage } from "../../api/client";

/** Rows reach columns. What is missing carries its reason, and stands below in words. */
const props = defineProps<{ reach: ClusterPage["reach"]; members: string[] }>();
const by = computed(() => new Map(props.reach.map((r) => [`${r.source} ${r.target}`, r])));
const cell = (a: string, b: string) => by.value.get(`${a} ${b}`);
const total = (a: string) => props.members.reduce((sum, b) => sum + (cell(a, b)?.reached ?? 0), 0);
const missing = computed(() => [...new Set(props.reach.filter((r) => r.why).map((r) => r.why))]);
const tooMany = computed(() => props.members.length > 24);
</script>

<template>
  <div class="wrap">
    <table v-if="!tooMany" class="matrix" aria-label="Reach">
      <thead>
        <tr>
          <td />
          <th v-for="b in members" :key="b" scope="col">
            <span>{{ b }}</span>
          </th>
          <th scope="col"><span>in all</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in members" :key="a">
          <th scope="row">{{ a }}</th>
          <td
            v-for="b in members"
            :key="b"
            :class="{ short: (cell(a, b)?.reached ?? 0) < (cell(a, b)?.of ?? 0), own: a === b }"
            :title="
              cell(a, b)?.why || `${a} reaches ${cell(a, b)?.reached} of ${cell(a, b)?.of} disks of ${b}`
            "
          >
            {{
              (cell(a, b)?.reached ?? 0) < (cell(a, b)?.of ?? 0)
                ? `${cell(a, b)?.reached} of ${cell(a, b)?.of}`
                : cell(a, b)?.reached
            }}
          </td>
          <td class="sum">{{ total(a) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else class="small">{{ members.length }} nodes: shown is only what is missing.</p>
    <p v-for="m in missing.slice(0, 12)" :key="m" class="small">{{ m[0]!.toUpperCase() }}{{ m.slice(1) }}.</p>
    <p v-if="!missing.length" class="small">Every node reaches every disk.</p>
  </div>
</template>

<style scoped>
.wrap {
  overflow-x: auto;
}
.matrix {
  border-collapse: collapse;
  font-size: var(--t-s);
}
th {
  font-weight: 500;
  color: var(--soft);
  text-align: right;
  padding: 2px 8px 2px 0;
  white-space: nowrap;
}
thead th {
  vertical-align: bottom;
  height: 74px;
  padding: 0 0 4px;
}
thead th span {
  writing-mode: vertical-rl;
  transform: rotate(180deg);
}
td {
  border: 1px solid var(--rule2);
  text-align: center;
  font-family: var(--mono);
  min-width: 38px;
  padding: 2px 5px;
  background: var(--sheet);
}
td.own {
  color: var(--faint);
}
td.short {
  background: repeating-linear-gradient(135deg, var(--sheet) 0 4px, var(--rule) 4px 5px);
  font-weight: 640;
  border-color: var(--failed);
}
td.sum {
  border: 0;
  background: none;
  font-weight: 640;
}
thead td {
  border: 0;
  background: none;
}
</style>
