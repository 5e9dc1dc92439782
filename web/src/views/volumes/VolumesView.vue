<script setup lang="ts">
import { useBarn } from "../../api/client";
import { binarySize, count, terabytes } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import SumFigure from "../../parts/SumFigure.vue";
import PlanMenu from "../barn/PlanMenu.vue";
import { STANDING } from "../policies/standing";
import VolumeTabs from "./VolumeTabs.vue";

const { data: barn, error } = useBarn();
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Volumes</h1>
      <VolumeTabs />
      <p v-if="barn">{{ count(barn.volumes.length, "volume") }}.</p>
      <span class="grow" /><PlanMenu v-if="barn" :pools="barn.pools" />
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="barn?.volumes.length" class="plain volumes">
      <thead>
        <tr>
          <th>Volume</th>
          <th>Data</th>
          <th>Pool</th>
          <th class="n">Size, TB</th>
          <th class="n">binary</th>
          <th class="n">Written, TB</th>
          <th>Policy</th>
          <th>Protection</th>
          <th class="n">On disks, TB</th>
          <th>Survives</th>
          <th>State, and why</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="v in barn.volumes" :key="v.name">
          <td>
            <RouterLink :to="`/volumes/${v.name}`"
              ><b>{{ v.name }}</b></RouterLink
            >
          </td>
          <td><StateMark :lamp="v.state.lamp" /> {{ v.forming ? "being made" : v.data }}</td>
          <td>
            <RouterLink :to="`/pools/${v.pool}`">{{ v.pool }}</RouterLink>
          </td>
          <td class="n">{{ terabytes(v.size_bytes) }}</td>
          <td class="n soft">{{ binarySize(v.size_bytes) }}</td>
          <td class="n">{{ terabytes(v.written_bytes) }}</td>
          <td>
            <template v-if="v.keeps">
              <StateMark :lamp="STANDING[v.keeps.standing]" :title="v.keeps.sentence" />
              <RouterLink :to="pathOf('policy', v.keeps.policy)">{{ v.keeps.policy }}</RouterLink>
            </template>
            <span v-else class="soft">by hand</span>
          </td>
          <td>{{ v.counted }} by {{ v.level }}</td>
          <td class="n">
            <SumFigure :figure="v.footprint">{{ terabytes(v.footprint.value) }}</SumFigure>
          </td>
          <td>{{ v.survives ? count(v.survives, v.level) : "no loss" }}</td>
          <td class="soft">{{ v.state.lamp === "sound" ? "as it should be" : v.state.reason }}</td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="barn" class="empty">
      No volume yet.
      <RouterLink v-if="barn.pools.length" class="act" data-offered :to="{ query: { plan: 'create-volume' } }"
        >Preview a volume</RouterLink
      >
      <template v-else
        >A volume draws from a pool, so
        <RouterLink class="act" data-offered :to="{ query: { plan: 'form-pool' } }"
          >preview a pool</RouterLink
        >
        first.</template
      >
    </p>
  </main>
</template>

<style scoped>
.volumes td:not(:last-child),
.volumes th {
  white-space: nowrap;
}
</style>
