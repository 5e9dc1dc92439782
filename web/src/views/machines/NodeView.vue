<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useCluster, useMachines, type DiskFacts } from "../../api/client";
import { binarySize, count, speed } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import CopyName from "../../parts/CopyName.vue";
import KinCards from "../../parts/KinCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import TideGraph from "../../parts/TideGraph.vue";
import { MEDIA, verdict } from "./columns";

/** A node: what it offers, its ports and disks, its part in the cluster. */
const props = defineProps<{ node: string }>();
const { data: machines, error } = useMachines();
const { data: cluster } = useCluster();
const router = useRouter();
const route = useRoute();
const one = computed(() =>
  machines.value?.nodes.find((n) => n.name.toLowerCase() === props.node.toLowerCase()),
);
const disks = computed(() => machines.value?.disks.filter((d) => d.node === one.value?.name) ?? []);
const findings = computed(() => cluster.value?.findings.filter((f) => f.about === one.value?.name) ?? []);
const leads = computed(() => cluster.value?.cluster?.leader === one.value?.name);
/** Of which of its ports it is shown what went through; none for all of it. */
const port = computed(() => one.value?.ports.find((p) => p.name === route.query.port)?.name);
const ofPort = (name: string | undefined) =>
  router.replace({ query: { ...route.query, port: name, drawn: undefined } });
const plan = (kind: string, more: Record<string, string>) =>
  router.push({ query: { ...route.query, plan: kind, ...more } });
const open = (d: DiskFacts) => router.push(pathOf("disk", d.name));
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <p v-if="machines && !one" class="empty">
      No node named {{ node }} is known. <RouterLink class="act" to="/machines">All machines</RouterLink>
    </p>
    <template v-if="one">
      <div class="headline">
        <h1><StateMark :lamp="one.state.lamp" /> {{ one.name }} <CopyName :name="one.name" /></h1>
        <p>{{ one.room }}, {{ one.rack }}. {{ one.state.reason }}</p>
        <span class="grow" />
        <RouterLink
          v-if="one.awaited_back"
          class="act"
          :to="{
            query: { ...route.query, plan: 'give-up', 'with-params': JSON.stringify({ nodes: [one.name] }) },
          }"
          >Preview not waiting for it any longer</RouterLink
        >
        <RouterLink
          v-if="disks.some((d) => d.pool)"
          class="act"
          :to="{ query: { ...route.query, plan: 'retire', node: one.name } }"
          >Preview retiring its disks</RouterLink
        >
        <VBtn class="btn plain" @click="plan('rename', { nodes: one.name })"> Preview renaming </VBtn>
        <VBtn
          v-if="cluster?.cluster && !cluster.cluster.forming && !one.member"
          class="btn"
          @click="plan('add-node', { node: one.name })"
        >
          Preview adding it to {{ cluster.cluster.name }}
        </VBtn>
        <VBtn v-else-if="one.member" class="btn plain" @click="plan('let-go', { node: one.name })">
          Preview letting it go
        </VBtn>
      </div>
      <KinCards link="node" :name="one.name" />
      <dl class="facts">
        <div>
          <dt>Cores</dt>
          <dd>{{ one.cores || "not known" }}</dd>
        </div>
        <div>
          <dt>Memory</dt>
          <dd>{{ one.memory_bytes ? binarySize(one.memory_bytes) : "not known" }}</dd>
        </div>
        <div>
          <dt>Disks</dt>
          <dd>{{ one.disks }}, {{ one.fit }} fit and free</dd>
        </div>
        <div>
          <dt>Clock</dt>
          <dd>
            {{
              one.clock_offset === null
                ? "not known"
                : Math.abs(one.clock_offset) < 0.05
                  ? "in step"
                  : `${Math.abs(one.clock_offset).toFixed(1)} s ${one.clock_offset > 0 ? "ahead" : "behind"}`
            }}
          </dd>
        </div>
        <div>
          <dt>Cluster</dt>
          <dd>
            {{ one.keeper ? `keeper${leads ? ", leads now" : ""}` : one.member ? "member" : "outside"
            }}{{ one.dedicated ? ", dedicated to storage" : "" }}
          </dd>
        </div>
        <div v-if="one.agent_name !== one.name">
          <dt>Its agent calls it</dt>
          <dd>{{ one.agent_name }}</dd>
        </div>
      </dl>
      <p v-for="f in findings" :key="f.sentence" class="finding">
        <StateMark :lamp="f.result === 'fail' ? 'failed' : 'watch'" /> {{ f.sentence }}
        <span class="soft">{{ f.cure }}</span>
      </p>
      <section aria-label="What went through it">
        <nav class="lens ports" aria-label="Of what">
          <VBtn :aria-pressed="!port" @click="ofPort(undefined)">All of {{ one.name }}</VBtn>
          <VBtn
            v-for="p in one.ports"
            :key="p.name"
            :aria-pressed="p.name === port"
            @click="ofPort(p.name)"
            >{{ p.name }}</VBtn
          >
        </nav>
        <TideGraph :of="port ? 'port' : 'node'" :name="one.name" :part="port" />
      </section>
      <section aria-label="Network ports">
        <div class="sec">
          <h2>Network ports</h2>
          <span class="grow" /><VBtn
            v-if="one.ports.length"
            class="act"
            @click="plan('address-ports', { nodes: one.name, port: one.ports[0]!.name })"
          >
            Preview handing out addresses</VBtn
          ><VBtn
            v-if="one.ports.length"
            class="act"
            @click="plan('purpose-ports', { nodes: one.name, port: one.ports[0]!.name })"
          >
            Preview another purpose
          </VBtn>
        </div>
        <VTable class="plain">
          <thead>
            <tr>
              <th>Port</th>
              <th>Purpose</th>
              <th>Link</th>
              <th class="n">Speed</th>
              <th class="n">MTU</th>
              <th>Addresses</th>
              <th>At the other end</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in one.ports" :key="p.name">
              <td class="mono">
                <b>{{ p.name }}</b>
              </td>
              <td>{{ p.purpose }}</td>
              <td><StateMark :lamp="p.up ? 'sound' : 'watch'" /> {{ p.up ? "up" : "down" }}</td>
              <td class="n">{{ p.bytes_per_second ? speed(p.bytes_per_second) : "" }}</td>
              <td class="n">{{ p.mtu }}</td>
              <td class="mono">{{ p.addresses.join(", ") }}</td>
              <td>{{ p.neighbour || "not known" }}</td>
            </tr>
            <tr v-if="!one.ports.length">
              <td colspan="7" class="soft">Nobody has told of its ports yet.</td>
            </tr>
          </tbody>
        </VTable>
      </section>
      <section aria-label="Disks">
        <div class="sec">
          <h2>Disks</h2>
          <span class="small">{{ count(disks.length, "disk") }}</span>
        </div>
        <VTable class="plain">
          <thead>
            <tr>
              <th>Disk</th>
              <th>Bay</th>
              <th>Medium</th>
              <th>Model</th>
              <th class="n">Size, TB</th>
              <th class="n">binary</th>
              <th>Verdict</th>
              <th>State</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="d in disks" :key="d.name" :data-row="d.name" @click="open(d)">
              <td class="mono">
                <RouterLink :to="pathOf('disk', d.name)" @click.stop
                  ><b>{{ d.name }}</b></RouterLink
                >
              </td>
              <td>{{ d.bay }}</td>
              <td>{{ MEDIA[d.media] ?? d.media }}</td>
              <td>{{ d.model }}</td>
              <td class="n">{{ (d.size_bytes / 1e12).toFixed(2) }}</td>
              <td class="n soft">{{ binarySize(d.size_bytes) }}</td>
              <td>{{ verdict(d) }}</td>
              <td>
                <StateMark :lamp="d.lamp" word />
                <span v-if="d.lamp !== 'sound'" class="soft">{{ d.state }}</span>
              </td>
            </tr>
          </tbody>
        </VTable>
      </section>
    </template>
    <p v-else-if="!machines && !error" class="empty">Reading {{ node }} …</p>
  </main>
</template>

<style scoped>
.facts {
  display: flex;
  gap: 26px;
  border-top: 1.5px solid var(--ink);
  border-bottom: 1px solid var(--rule);
  padding: 6px 0;
  margin-bottom: 8px;
  font-size: var(--t-s);
}
dt {
  color: var(--soft);
  font-size: var(--t-xs);
}
.ports {
  padding-bottom: 4px;
}
.finding {
  font-size: var(--t-s);
  padding: 2px 0;
}
section {
  padding-top: 8px;
}
tr[data-row] {
  cursor: pointer;
}
</style>
