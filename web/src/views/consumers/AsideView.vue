<script setup lang="ts">
import { useClaims } from "../../api/client";
import { clock, count, percent, terabytes } from "../../lib/format";
import { pathOf, pathOfNamespace } from "../../lib/paths";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ConsumerTabs from "./ConsumerTabs.vue";

/** Volumes that have outlived their claims: nobody uses them, and nothing of them is lost. */
const { data, error } = useClaims({ life: ["kept aside"], per: 500 });
const DAY = 86_400_000;
const age = (iso: string) => {
  const days = Math.floor((Date.now() - new Date(iso).getTime()) / DAY);
  return days ? count(days, "day") : "today";
};
const bytes = () => data.value?.claims.reduce((n, c) => n + c.volume_bytes, 0) ?? 0;
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Kept aside</h1>
      <ConsumerTabs />
      <p v-if="data">
        {{ count(data.matching, "volume")
        }}<template v-if="data.matching">, {{ terabytes(bytes()) }} TB</template>
        that outlived their claims.
      </p>
      <span class="grow" />
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="data?.claims.length" class="plain">
      <thead>
        <tr>
          <th>Of the claim</th>
          <th>Volume</th>
          <th class="n">Size, TB</th>
          <th class="n">Written</th>
          <th>Kept since</th>
          <th>For</th>
          <th>Used last by</th>
          <th>What can be done</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in data.claims" :key="c.number">
          <td class="name">
            <StateMark :lamp="c.state.lamp" :title="c.state.reason" />{{ " " }}
            <RouterLink class="soft" :to="pathOfNamespace(c.orchestrator, c.namespace)">{{
              c.namespace
            }}</RouterLink>/<RouterLink :to="pathOf('claim', String(c.number))"
              ><b>{{ c.name }}</b></RouterLink
            >
          </td>
          <td class="name">
            <RouterLink v-if="c.volume" :to="pathOf('volume', c.volume)">{{ c.volume }}</RouterLink>
            <span v-else class="soft">gone</span>
          </td>
          <td class="n">{{ terabytes(c.volume_bytes) }}</td>
          <td class="n">{{ c.volume_bytes ? percent(c.written / c.volume_bytes) : "" }}</td>
          <td>{{ clock(c.since) }}</td>
          <td>{{ age(c.since) }}</td>
          <td class="soft">{{ c.used_by || "no pod, as far as is known" }}</td>
          <td class="deeds">
            <RouterLink class="act" :to="{ query: { plan: 'bind-again', claim: String(c.number) } }"
              >Give it to a claim</RouterLink
            >
            <RouterLink class="act" :to="{ query: { plan: 'attach-volume', volume: c.volume } }"
              >Attach it to a host</RouterLink
            >
            <RouterLink class="act" :to="{ query: { plan: 'take-snapshot', volume: c.volume } }"
              >Take a snapshot</RouterLink
            >
            <RouterLink class="act" :to="{ query: { plan: 'delete-volume', volume: c.volume } }"
              >Preview deleting</RouterLink
            >
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="data" class="empty">
      Nothing is kept aside. A volume is when its claim is deleted and its class says that volumes are
      retained, or when the object that stands for it is taken away by hand.
    </p>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  max-width: 240px;
}
.deeds {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
</style>
