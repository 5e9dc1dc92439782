<script setup lang="ts">
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useChanges, useCluster, useTestPorts, useTryPassphrase } from "../../api/client";
import { clock, count } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import CopyName from "../../parts/CopyName.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import FormCluster from "./FormCluster.vue";
import ReachMatrix from "./ReachMatrix.vue";

/**
 * The cluster: who leads, who has a vote, what may be lost, who reaches what. Before it is formed: forming
 * it.
 */
const { data: page, error } = useCluster();
const { data: changes } = useChanges();
const testPorts = useTestPorts();
const tryKey = useTryPassphrase();
const router = useRouter();
const cluster = computed(() => page.value?.cluster ?? null);
const forming = computed(() =>
  (changes.value ?? []).find((c) => c.kind === "form-cluster" && !["done", "withdrawn"].includes(c.state)),
);
const tested = computed(() =>
  page.value?.ports_tested_at ? clock(new Date(page.value.ports_tested_at * 1000).toISOString()) : "",
);
const found = computed(() => {
  if (!tested.value) return "Not tested yet.";
  const failed = page.value!.shut.length;
  const said = failed ? `${count(failed, "try", "tries")} failed` : "everything that can be tried is open";
  return `Tested ${tested.value}: ${said}.`;
});
const shut = computed(() => {
  const found = new Map<string, { target: string; why: string; ports: Set<number>; sources: Set<string> }>();
  for (const s of page.value?.shut ?? []) {
    const row = found.get(`${s.target} ${s.why}`) ?? {
      target: s.target,
      why: s.why,
      ports: new Set<number>(),
      sources: new Set<string>(),
    };
    row.ports.add(s.port);
    row.sources.add(s.source);
    found.set(`${s.target} ${s.why}`, row);
  }
  return [...found.values()];
});
const typed = ref("");
const passphrase = () => tryKey.mutate(typed.value, { onSettled: () => (typed.value = "") });
</script>

<template>
  <main class="page">
    <ProblemNote :error="error ?? testPorts.error.value" />
    <p v-if="!page && !error" class="empty">Reading the cluster …</p>
    <template v-if="page && cluster && !cluster.forming">
      <div class="headline">
        <h1>
          <StateMark :lamp="cluster.leader ? 'sound' : 'failed'" /> {{ cluster.name }}
          <CopyName :name="cluster.name" />
        </h1>
        <p v-if="cluster.leader">
          <RouterLink class="act" :to="pathOf('node', cluster.leader)">{{ cluster.leader }}</RouterLink> leads
          (term {{ cluster.term }}) and answers at {{ cluster.service_address.split("/")[0] }}.
        </p>
        <p v-else>None of the members that are heard says who leads.</p>
        <span class="grow" />
        <span class="small"
          >{{ count(cluster.members.length, "member") }}, {{ count(cluster.keepers.length, "keeper")
          }}{{ cluster.witness ? ` and the witness ${cluster.witness}` : "" }}</span
        >
      </div>
      <p v-if="cluster.witness_silent" class="note">
        <StateMark lamp="not heard" /> The witness {{ cluster.witness }} is not heard:
        {{ cluster.witness_silent }} Its vote does not count now.
      </p>
      <p v-if="cluster.witness_reason" class="note">
        <StateMark lamp="watch" /> The witness stands in {{ cluster.witness_rack || cluster.witness_room }},
        beside members, because: {{ cluster.witness_reason }}
      </p>
      <div class="two">
        <section aria-label="Votes">
          <div class="sec">
            <h2>Votes</h2>
            <span class="small">{{ page.votes }}</span>
          </div>
          <VTable class="plain">
            <thead>
              <tr>
                <th>If this is lost</th>
                <th class="n">Votes lost</th>
                <th class="n">Left</th>
                <th>The rest</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="l in page.losses" :key="l.what">
                <td>{{ l.what }}</td>
                <td class="n">{{ l.votes_lost }}</td>
                <td class="n">{{ l.votes_left }}</td>
                <td>
                  <StateMark :lamp="l.decides ? 'sound' : 'failed'" />
                  {{ l.decides ? "decides" : "decides nothing" }}
                </td>
              </tr>
            </tbody>
          </VTable>
          <p v-for="d in page.doubts" :key="d" class="note"><StateMark lamp="watch" /> {{ d }}</p>
          <div class="sec"><h2>Keys</h2></div>
          <form v-if="cluster.encrypted" class="wish" @submit.prevent="passphrase">
            <VTextField v-model="typed" type="password" label="Passphrase that seals the key" width="330" />
            <VBtn type="submit" class="btn plain" :disabled="tryKey.isPending.value">Try it</VBtn>
            <span v-if="tryKey.isSuccess.value" class="small" role="status"
              ><StateMark lamp="sound" /> It opens the key.</span
            >
            <span v-else-if="tryKey.error.value" class="small" role="status"
              ><StateMark lamp="failed" /> {{ tryKey.error.value.message }}</span
            >
          </form>
          <p v-else class="small">Formed without encryption at rest.</p>
          <p v-if="cluster.mail_to" class="small">Notifications go to {{ cluster.mail_to }}.</p>
        </section>
        <section aria-label="Reach">
          <div class="sec">
            <h2>Who reaches whose disks</h2>
            <span class="small">disks of the column that the row reaches</span>
          </div>
          <ReachMatrix :reach="page.reach" :members="page.members" />
        </section>
      </div>
    </template>
    <template v-else-if="page">
      <div v-if="forming" class="problem" role="status">
        <StateMark :lamp="forming.state === 'paused' ? 'short' : 'mending'" /><span
          >{{ forming.about }} is being formed{{
            forming.state === "paused" ? `, and paused: ${forming.problem}` : ""
          }}.
          <RouterLink class="act" :to="`/changes/${forming.number}`">{{
            forming.state === "paused" ? "Go on or withdraw it" : "Watch its steps"
          }}</RouterLink></span
        >
      </div>
      <FormCluster v-else />
    </template>
    <section v-if="page" class="ports" aria-label="Port plan">
      <div class="sec">
        <h2>Port plan</h2>
        <span class="small">what must be open between whom</span><span class="grow" />
        <span class="small" role="status">{{
          testPorts.isPending.value ? "The agents try every opening …" : found
        }}</span>
        <VBtn class="act" :disabled="testPorts.isPending.value" @click="testPorts.mutate()">
          Test it through the agents
        </VBtn>
      </div>
      <p v-for="s in shut" :key="s.target + s.why" class="note" data-shut>
        <StateMark lamp="failed" /> {{ [...s.sources].join(", ") }} cannot reach <b>{{ s.target }}</b> on
        {{ [...s.ports].join(", ") }}: {{ s.why }}.
      </p>
      <VTable class="plain">
        <thead>
          <tr>
            <th>From</th>
            <th>To</th>
            <th>Ports</th>
            <th>For</th>
            <th>On its network of</th>
            <th>Tried by agents</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="o in page.port_plan" :key="o.name">
            <td>{{ o.source }}</td>
            <td>{{ o.target }}</td>
            <td class="mono">{{ o.protocol }} {{ o.ports }}</td>
            <td>{{ o.why }}</td>
            <td>{{ o.purpose }}</td>
            <td>{{ o.tested ? "yes" : "no" }}</td>
          </tr>
        </tbody>
      </VTable>
      <p class="small">
        <VBtn class="act" @click="router.push('/machines?show=nodes')"> Nodes and their ports </VBtn>
      </p>
    </section>
  </main>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.2fr);
  gap: 26px;
}
.ports {
  padding-top: 12px;
}
.note {
  font-size: var(--t-s);
  padding: 3px 0;
  display: flex;
  gap: 6px;
  align-items: center;
}
.wish {
  display: flex;
  gap: 12px;
  align-items: end;
}
</style>
