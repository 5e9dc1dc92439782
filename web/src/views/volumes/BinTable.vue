<script setup lang="ts">
import { computed } from "vue";
import type { Volume } from "../../api/client";
import { clock, count, terabytes } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import StateMark from "../../parts/StateMark.vue";
import SumFigure from "../../parts/SumFigure.vue";

/** What was deleted and can be brought back. kept: of all, where not all are shown. */
const props = defineProps<{ volumes: Volume[]; kept: number }>();
/** The pools whose bin is not empty. */
const bins = computed(() => [...new Set(props.volumes.map((v) => v.pool))]);
</script>

<template>
  <section id="bin" aria-label="In the bin">
    <div class="sec bin">
      <h2>In the bin</h2>
      <span class="small"
        >Whole and protected as before, served to nobody.<template v-if="kept > volumes.length">
          The first {{ volumes.length.toLocaleString("en") }} of {{ count(kept, "volume") }}.</template
        ></span
      ><span class="grow" />
      <RouterLink v-for="pool in bins" :key="pool" class="act" :to="{ query: { plan: 'empty-bin', pool } }"
        >Preview emptying the bin of {{ pool }}</RouterLink
      >
    </div>
    <VTable class="plain binned">
      <thead>
        <tr>
          <th>Volume</th>
          <th>Data</th>
          <th>Pool</th>
          <th class="n">Size, TB</th>
          <th class="n">Written, TB</th>
          <th class="n">On disks, TB</th>
          <th>Deleted</th>
          <th>Kept until</th>
          <th><span class="unseen">What can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="v in volumes" :key="v.name">
          <td class="name">
            <RouterLink :to="pathOf('volume', v.name)"
              ><b>{{ v.name }}</b></RouterLink
            >
          </td>
          <td><StateMark :lamp="v.state.lamp" :title="v.state.reason" /> {{ v.data }}</td>
          <td>
            <RouterLink :to="pathOf('pool', v.pool)">{{ v.pool }}</RouterLink>
          </td>
          <td class="n">{{ terabytes(v.size_bytes) }}</td>
          <td class="n">{{ terabytes(v.written_bytes) }}</td>
          <td class="n">
            <SumFigure :figure="v.footprint">{{ terabytes(v.footprint.value) }}</SumFigure>
          </td>
          <td>{{ clock(v.binned!.since) }}</td>
          <td>{{ clock(v.binned!.until) }}</td>
          <td>
            <span class="deeds">
              <RouterLink class="act" :to="{ query: { plan: 'restore-volume', volume: v.name } }"
                >Preview bringing it back</RouterLink
              >
              <RouterLink class="act" :to="{ query: { plan: 'empty-bin', pool: v.pool, volumes: v.name } }"
                >Preview emptying the bin of it</RouterLink
              >
            </span>
          </td>
        </tr>
      </tbody>
    </VTable>
  </section>
</template>

<style scoped>
.bin {
  margin-top: 22px;
}
.binned td:not(:last-child),
.binned th {
  white-space: nowrap;
}
.binned td.name {
  white-space: normal;
  overflow-wrap: anywhere;
  max-width: 240px;
}
.deeds {
  display: flex;
  gap: 16px;
  justify-content: flex-end;
}
</style>
