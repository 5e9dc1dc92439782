<script setup lang="ts">
import type { Claim } from "../../api/client";
import { binarySize, percent } from "../../lib/format";
import { pathOf, pathOfNamespace } from "../../lib/paths";
import StateMark from "../../parts/StateMark.vue";

/** Claims, a line each. several: of more than one orchestrator; alone: of one namespace, which is known. */
defineProps<{ claims: Claim[]; several?: boolean; alone?: boolean }>();
const asked = (c: Claim) => c.asked_class ?? "the default one";
const written = (c: Claim) => (c.volume_bytes ? percent(c.written / c.volume_bytes) : "");
</script>

<template>
  <VTable class="plain claims">
    <thead>
      <tr>
        <th>Claim</th>
        <th v-if="several">In</th>
        <th>Class</th>
        <th class="n">Asks for</th>
        <th>Volume</th>
        <th class="n">Written</th>
        <th>Used last by</th>
        <th>State, and why</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="c in claims" :key="c.number">
        <td class="name">
          <StateMark :lamp="c.state.lamp" />{{ " "
          }}<template v-if="!alone"
            ><RouterLink class="soft" :to="pathOfNamespace(c.orchestrator, c.namespace)">{{
              c.namespace
            }}</RouterLink
            >/</template
          ><RouterLink :to="pathOf('claim', String(c.number))"
            ><b>{{ c.name }}</b></RouterLink
          >
        </td>
        <td v-if="several" class="soft">{{ c.orchestrator }}</td>
        <td :class="{ soft: !c.class_name }">{{ c.class_name || asked(c) }}</td>
        <td class="n nowrap">{{ binarySize(c.size) }}</td>
        <td class="name">
          <RouterLink v-if="c.volume" :to="pathOf('volume', c.volume)">{{ c.volume }}</RouterLink>
          <span v-else class="soft">none</span>
        </td>
        <td class="n">{{ written(c) }}</td>
        <td class="soft name">{{ c.used_by }}</td>
        <td class="soft why">
          <template v-if="c.life !== 'bound'">{{ c.life }}: </template>{{ c.state.reason }}
        </td>
      </tr>
    </tbody>
  </VTable>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 110px;
  max-width: 260px;
}
.nowrap {
  white-space: nowrap;
}
.why {
  min-width: 220px;
}
</style>
