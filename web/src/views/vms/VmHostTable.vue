<script setup lang="ts">
import type { Host } from "../../api/client";
import { binarySize } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import MeasureBar from "../../parts/MeasureBar.vue";
import StateMark from "../../parts/StateMark.vue";

/** Hosts that run VMs, and what each of them has left. */
defineProps<{ hosts: Host[] }>();
</script>

<template>
  <VTable class="plain">
    <thead>
      <tr>
        <th>VM host</th>
        <th>Group</th>
        <th class="n">Processors</th>
        <th class="n">Memory</th>
        <th>Given, its own among it</th>
        <th class="n">Left</th>
        <th>On there</th>
        <th>State, and why</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="h in hosts" :key="h.name">
        <td class="name">
          <StateMark :lamp="h.runs!.state.lamp" />{{ " " }}
          <RouterLink :to="pathOf('host', h.name)"
            ><b>{{ h.name }}</b></RouterLink
          >
        </td>
        <td class="soft name">{{ h.group }}</td>
        <td class="n">{{ h.runs!.cpus }}</td>
        <td class="n nowrap">{{ binarySize(h.runs!.memory_bytes) }}</td>
        <td class="bar">
          <MeasureBar
            :used="h.runs!.given_bytes"
            :limit="h.runs!.memory_bytes"
            :words="binarySize(h.runs!.given_bytes)"
            :label="`Memory of ${h.name} that is given`"
          />
        </td>
        <td class="n nowrap">{{ binarySize(h.runs!.left_bytes) }}</td>
        <td>
          <template v-for="(g, i) in h.runs!.guests.filter((g) => g.on)" :key="g.name"
            >{{ i ? ", " : "" }}<RouterLink v-if="g.vm" :to="pathOf('vm', g.vm)">{{ g.vm }}</RouterLink
            ><span v-else class="soft">{{ g.name }}, not ours</span></template
          >
          <span v-if="!h.runs!.guests.some((g) => g.on)" class="soft">none</span>
        </td>
        <td class="soft">{{ h.runs!.state.reason }}</td>
      </tr>
    </tbody>
  </VTable>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 110px;
  max-width: 220px;
}
.nowrap {
  white-space: nowrap;
}
.bar {
  min-width: 110px;
}
</style>
