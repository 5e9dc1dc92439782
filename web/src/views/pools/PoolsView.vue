<script setup lang="ts">
import { useBarn, type Pool } from "../../api/client";
import { count, percent, tebibytes, terabytes, hundredths } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import SumFigure from "../../parts/SumFigure.vue";
import PoolTabs from "./PoolTabs.vue";
import PlanMenu from "../barn/PlanMenu.vue";

const { data: barn, error } = useBarn();
const rolesOf = (p: Pool) =>
  ["capacity", "cache", "spare"]
    .filter((r) => p.roles[r])
    .map((r) => `${p.roles[r]} ${r}`)
    .join(", ");
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Pools</h1>
      <PoolTabs />
      <p v-if="barn">{{ count(barn.pools.length, "pool") }}, and what each can still take.</p>
      <span class="grow" /><PlanMenu v-if="barn" :pools="barn.pools" />
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="barn?.pools.length" class="plain">
      <thead>
        <tr>
          <th>Pool</th>
          <th>State</th>
          <th>Usual protection</th>
          <th>Disks</th>
          <th class="n">Volumes</th>
          <th class="n">Raw, TB</th>
          <th class="n">Usable, TB</th>
          <th class="n">TiB</th>
          <th class="n">Full</th>
          <th class="n">Free, TB</th>
          <th>Healing</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in barn.pools" :key="p.name">
          <td>
            <RouterLink :to="`/pools/${p.name}`"
              ><b>{{ p.name }}</b></RouterLink
            >
          </td>
          <td :title="p.worst.reason"><StateMark :lamp="p.worst.lamp" word /></td>
          <td>{{ p.protection }}</td>
          <td>{{ rolesOf(p) }}</td>
          <td class="n">{{ p.volumes.length }}</td>
          <td class="n">{{ hundredths(p.ledger.raw.tb) }}</td>
          <td class="n">{{ terabytes(p.usable_bytes) }}</td>
          <td class="n soft">{{ tebibytes(p.usable_bytes) }}</td>
          <td class="n">{{ percent(p.full) }}</td>
          <td class="n">
            <SumFigure :figure="p.free">{{ terabytes(p.free.value) }}</SumFigure>
          </td>
          <td class="soft">{{ p.healing }}</td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="barn" class="empty">
      No pool yet.
      <RouterLink class="act" data-offered :to="{ query: { plan: 'form-pool' } }">Preview a pool</RouterLink>
      from the disks that have reported in.
    </p>
  </main>
</template>
