<script setup lang="ts">
import { computed, nextTick, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useBarn, useWork } from "../../api/client";
import { binarySize, count, percent, rate, size } from "../../lib/format";
import { natural } from "../../lib/natural";
import CopyName from "../../parts/CopyName.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";

/** Every disk with its verdict, by node in natural order; with a node given, only that node's. */
const props = defineProps<{ node?: string }>();
const { data: barn, error } = useBarn();
const { data: work } = useWork(true);
const route = useRoute();
const router = useRouter();
const wanted = ref("");
const nodes = computed(() =>
  (barn.value?.rooms ?? [])
    .flatMap((r) => r.racks.flatMap((k) => k.nodes))
    .filter((n) => !props.node || n.name === props.node)
    .sort((a, b) => natural(a.name, b.name)),
);
const rows = computed(() => {
  const text = wanted.value.trim().toLowerCase();
  return nodes.value.flatMap((node) =>
    node.disks
      .filter((d) => !text || `${d.name} ${d.role} ${d.pool ?? ""} ${d.media} ${d.serial} ${node.rack} ${node.room} ${d.state.lamp}`.toLowerCase().includes(text))
      .map((disk) => ({ node, disk })),
  );
});
const current = computed(() => (typeof route.query.disk === "string" ? route.query.disk : null));
const one = computed(() => (props.node ? nodes.value[0] : undefined));
watch([current, rows], async () => {
  await nextTick();
  if (current.value) document.querySelector(`tr[data-disk="${CSS.escape(current.value)}"]`)?.scrollIntoView({ block: "nearest" });
}, { immediate: true });
const pick = (node: string, disk: string) => router.replace({ path: `/machines/${encodeURIComponent(node)}`, query: { disk } });
const verdict = (d: { fit: boolean; role: string; reasons: string[]; pool: string | null }) => (d.pool ? `in ${d.pool}` : d.fit ? "fit" : `unfit: ${d.reasons.join("; ")}`);
</script>

<template>
  <main class="page">
    <div class="headline">
      <template v-if="one">
        <h1><StateMark :lamp="one.worst" /> {{ one.name }} <CopyName :name="one.name" /></h1>
        <p>{{ one.room }}, {{ one.rack }}. {{ one.state.reason }}</p>
        <span class="grow" /><RouterLink class="act" to="/machines">All machines</RouterLink>
      </template>
      <template v-else>
        <h1>Machines</h1>
        <p>{{ count(nodes.length, "node") }}, {{ count(rows.length, "disk") }}, as their agents reported them.</p>
        <span class="grow" />
      </template>
      <label class="field"><input v-model="wanted" placeholder="Show only, such as ssd or unfit" aria-label="Show only disks with" style="width: 240px" /></label>
    </div>
    <ProblemNote :error="error" />
    <p v-if="barn && node && !one" class="empty">No node named {{ node }} has reported in.</p>
    <table v-else class="plain">
      <thead><tr><th>Disk</th><th>Node</th><th>Where</th><th>Medium</th><th class="n">Size, TB</th><th class="n">binary</th><th>Verdict</th><th class="n">Used</th><th class="n">Reads</th><th class="n">Writes</th><th>State</th></tr></thead>
      <tbody>
        <tr v-for="{ node: n, disk: d } in rows" :key="d.name" :data-disk="d.name" :class="{ at: d.name === current }" @click="pick(n.name, d.name)">
          <td class="mono"><b>{{ d.name }}</b> <CopyName v-if="d.name === current" :name="d.name" /></td>
          <td><RouterLink :to="`/machines/${n.name}`" @click.stop>{{ n.name }}</RouterLink></td>
          <td class="soft">{{ n.room }}, {{ n.rack }}</td>
          <td>{{ d.media === "nvme" ? "NVMe" : d.media.toUpperCase() }}</td>
          <td class="n">{{ (d.size_bytes / 1e12).toFixed(2) }}</td>
          <td class="n soft">{{ binarySize(d.size_bytes) }}</td>
          <td>{{ verdict(d) }}</td>
          <td class="n">{{ d.pool ? percent(d.used_bytes / d.size_bytes) : "" }}</td>
          <td class="n">{{ work?.read[d.name] ? rate(work.read[d.name]!) : "" }}</td>
          <td class="n">{{ work?.write[d.name] ? rate(work.write[d.name]!) : "" }}</td>
          <td><StateMark :lamp="d.state.lamp" word /> <span v-if="d.state.lamp !== 'sound'" class="soft">{{ d.state.reason }}</span></td>
        </tr>
      </tbody>
    </table>
    <p v-if="barn && !rows.length && !node" class="empty">{{ wanted ? `No disk has “${wanted}” in any column.` : "No node has reported in yet." }}</p>
    <p v-if="current && one" class="small">Serial {{ one.disks.find((d) => d.name === current)?.serial }}, {{ size(one.disks.find((d) => d.name === current)?.size_bytes ?? 0) }}.</p>
  </main>
</template>

<style scoped>
tr { cursor: pointer; }
tr.at td { background: var(--slate-pale); }
</style>
