<script setup lang="ts">
import { computed } from "vue";
import type { BenchRow } from "../../api/client";
import { binarySize, milliseconds, span, terabytes } from "../../lib/format";
import StateMark from "../../parts/StateMark.vue";
import SumFigure from "../../parts/SumFigure.vue";

/**
 * Schemes, a row each: twelve figures beside one another are all that a page takes, so half of them is shown.
 * Those of machines on paper can be neither pinned nor written as policies.
 */
const props = defineProps<{
  rows: (BenchRow & { held: boolean })[];
  show: "room" | "speed";
  pins: string[];
  pinnable: boolean;
}>();
const emit = defineEmits<{ pin: [key: string] }>();
const took = (seconds: number | null) => (seconds === null ? "too much" : milliseconds(seconds));
const worn = computed(() => props.rows.some((row) => row.life));
const years = (of: number | null) =>
  of === null ? "for ever" : `${of < 10 ? of.toFixed(1) : Math.floor(of).toLocaleString("en")} years`;
const LEVELS = ["room", "rack", "node", "disk"] as const;
const work = (of: { reads: number; writes: number }) => {
  const count = (n: number, what: string) =>
    n ? [`${Number.isInteger(n) ? n : n.toFixed(2)} ${what}${n === 1 ? "" : "s"}`] : [];
  return [...count(of.reads, "read"), ...count(of.writes, "write")].join(", ");
};
const remade = (of: BenchRow["repair_disk"]) => (of ? `${span(of.seconds)}${of.waits ? " *" : ""}` : "never");
const write = (row: BenchRow) => ({
  query: {
    plan: "save-policy",
    by: row.k === 1 ? "copies" : "parity",
    k: String(row.k),
    m: String(row.m),
    over: row.level,
    share: String(row.per_domain),
  },
});
</script>

<template>
  <VTable class="plain bench">
    <thead>
      <tr>
        <th>Scheme</th>
        <th class="n">Usable, TB</th>
        <th class="n">1 TiB takes</th>
        <template v-if="show === 'room'">
          <th>Survives any</th>
          <th class="n">Needs</th>
          <th class="n">To heal</th>
          <th>Disk remade</th>
          <th>Node remade</th>
          <th>Loss a year</th>
        </template>
        <template v-else>
          <th>Small write</th>
          <th>Whole stripe</th>
          <th>Read, one lost</th>
          <th class="n">Most, operations/s</th>
          <th class="n">Takes, on average</th>
          <th class="n">99 of 100 within</th>
          <th v-if="worn" class="n">Fast media last</th>
        </template>
        <th v-if="pinnable"><span class="unseen">Pin</span></th>
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="row in rows"
        :key="`${row.held}${row.key}`"
        :class="{ cannot: row.against, held: row.held }"
        :data-pinned="row.held"
      >
        <td class="scheme">
          <RouterLink v-if="pinnable" :to="write(row)" :title="`Write a policy of ${row.counted}`">{{
            row.counted
          }}</RouterLink>
          <template v-else>{{ row.counted }}</template>
          <span v-if="row.held" class="soft">
            by {{ row.level }}<template v-if="row.per_domain > 1">, {{ row.per_domain }} in one,</template> in
            {{ row.pool }}
          </span>
          <span v-else-if="row.usual" class="soft"> usual here</span>
        </td>
        <template v-if="row.usable">
          <td class="n">
            <SumFigure :figure="row.usable">{{ terabytes(row.usable.value) }}</SumFigure>
          </td>
          <td class="n">
            <SumFigure :figure="row.takes">{{ binarySize(row.takes.value) }}</SumFigure>
          </td>
          <template v-if="show === 'room'">
            <td>
              <template v-for="l in LEVELS" :key="l"
                ><span v-if="row.survives[l]" class="level"
                  >{{ row.survives[l] }} {{ l }}{{ row.survives[l] === 1 ? "" : "s" }}</span
                ></template
              >
              <span v-if="!row.m">no loss</span>
            </td>
            <td class="n">{{ row.needs }}</td>
            <td class="n">{{ row.m ? row.to_heal : "" }}</td>
            <td>{{ remade(row.repair_disk) }}</td>
            <td>{{ remade(row.repair_node) }}</td>
            <td>{{ row.chance }}</td>
          </template>
          <template v-else>
            <td>
              {{ work(row.small_write) }}
              <span v-if="row.landed" class="soft" title="Landing on the fast tier first, then settling"
                >or lands: {{ work(row.landed) }}, then {{ work(row.large_write) }}</span
              >
            </td>
            <td>{{ work(row.large_write) }}</td>
            <td>{{ row.m ? work(row.read_short) : "cannot" }}</td>
            <template v-if="row.speed">
              <td class="n" :title="`limited by ${row.speed.limit}`">
                {{ Math.floor(row.speed.most).toLocaleString("en") }}
                <span class="soft limit">{{ row.speed.limit }}</span>
              </td>
              <td class="n">{{ took(row.speed.mean) }}</td>
              <td class="n">{{ took(row.speed.late) }}</td>
            </template>
            <td v-else colspan="3" />
            <td v-if="worn" class="n" :title="row.life?.sentence">
              <StateMark v-if="row.life && !row.life.lasts" lamp="watch" title="shorter than is usual" />
              {{ row.life ? years(row.life.years) : "" }}
            </td>
          </template>
        </template>
        <td v-else :colspan="worn && show === 'speed' ? 9 : 8">
          {{ row.against }} <span class="soft">{{ row.cure }}</span>
          <VBtn
            v-if="pinnable && row.closer && !pins.includes(row.closer.key)"
            class="beside"
            :aria-label="`Lay ${row.counted}, ${row.closer.apart}, beside them`"
            @click="emit('pin', row.closer.key)"
            >lay that beside</VBtn
          >
        </td>
        <td v-if="pinnable" class="n">
          <VBtn
            v-if="row.held || !pins.includes(row.key)"
            class="small"
            :aria-label="`${row.held ? 'Unpin' : 'Pin'} ${row.counted} by ${row.level} in ${row.pool}`"
            @click="emit('pin', row.key)"
            >{{ row.held ? "unpin" : "pin" }}</VBtn
          >
        </td>
      </tr>
    </tbody>
  </VTable>
</template>

<style scoped>
.bench th,
.bench td {
  white-space: nowrap;
}
.bench td[colspan] {
  white-space: normal;
}
.scheme {
  font-weight: 600;
}
.scheme .soft {
  font-weight: 430;
}
.limit {
  font-family: var(--ui);
}
.held td {
  background: var(--sheet);
}
.cannot {
  color: var(--soft);
}
.beside {
  margin-left: 8px;
  color: var(--act);
  text-decoration: underline;
}
.level + .level::before {
  content: ", ";
}
</style>
