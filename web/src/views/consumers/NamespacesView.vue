<script setup lang="ts">
import { computed } from "vue";
import { useConsumers, type Grant } from "../../api/client";
import { binarySize, count, say } from "../../lib/format";
import { pathOfNamespace } from "../../lib/paths";
import MeasureBar from "../../parts/MeasureBar.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ConsumerTabs from "./ConsumerTabs.vue";
import ThreadsDrawing from "./ThreadsDrawing.vue";

/** What each namespace was granted, and has of it. */
const { data, error } = useConsumers();
const granted = computed(() => data.value?.namespaces.filter((n) => n.grants.length) ?? []);
const others = computed(() => data.value?.namespaces.filter((n) => !n.grants.length) ?? []);
const bytes = (g: Grant) =>
  g.bytes === null
    ? `${binarySize(g.used_bytes)}, no limit`
    : `${binarySize(g.used_bytes)} of ${binarySize(g.bytes)}`;
const claims = (g: Grant) =>
  g.claims === null ? `${g.used_claims}, no limit` : `${g.used_claims} of ${g.claims}`;
const beside = (g: Grant) =>
  [
    ...(g.bytes_a_claim === null ? [] : [`one claim at most ${binarySize(g.bytes_a_claim)}`]),
    ...g.by_class.map((c) => {
      const limits = [
        ...(c.bytes === null ? [] : [`${binarySize(c.used_bytes)} of ${binarySize(c.bytes)}`]),
        ...(c.claims === null ? [] : [`${c.used_claims} of ${count(c.claims, "claim")}`]),
      ];
      return `${c.name}: ${limits.join(", ")}`;
    }),
  ].join("; ");
const asked = (g: Grant) => ({ orchestrator: g.orchestrator, namespace: g.namespace, policy: g.policy });
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Namespaces</h1>
      <ConsumerTabs />
      <p v-if="data">
        {{ count(granted.length, "namespace") }} with a grant,
        {{ others.length.toLocaleString("en") }} without.
      </p>
      <span class="grow" />
      <RouterLink v-if="data?.orchestrators.length" class="btn" :to="{ query: { plan: 'grant-policy' } }"
        >Grant a policy</RouterLink
      >
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="granted.length" class="plain grants">
      <thead>
        <tr>
          <th>Namespace</th>
          <th>Policy</th>
          <th>Asked for as</th>
          <th>It has</th>
          <th>Claims</th>
          <th>Beside that</th>
          <th><span class="unseen">What can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="n in granted" :key="`${n.orchestrator}/${n.name}`">
          <tr v-for="(g, i) in n.grants" :key="g.policy" :class="{ more: i }">
            <td class="name">
              <template v-if="!i">
                <StateMark :lamp="n.state.lamp" :title="n.state.reason" />{{ " " }}
                <RouterLink :to="pathOfNamespace(n.orchestrator, n.name)"
                  ><b>{{ n.name }}</b></RouterLink
                >
                <span class="soft"> in {{ n.orchestrator }}</span>
                <p class="small">
                  <template v-if="!n.there">It is not there, as far as is known. </template
                  >{{
                    say([
                      ...(n.waiting ? [`${n.waiting} waiting`] : []),
                      ...(n.bound ? [`${n.bound} bound`] : []),
                      ...(n.aside ? [`${n.aside} kept aside`] : []),
                    ]) || "no claim yet"
                  }}
                </p>
              </template>
            </td>
            <td>
              <RouterLink :to="`/policies/${encodeURIComponent(g.policy)}`">{{ g.policy }}</RouterLink>
            </td>
            <td :class="{ soft: !g.classes.length }">{{ say(g.classes) || "no class stands for it" }}</td>
            <td><MeasureBar :used="g.used_bytes" :limit="g.bytes" :words="bytes(g)" label="Bytes" /></td>
            <td><MeasureBar :used="g.used_claims" :limit="g.claims" :words="claims(g)" label="Claims" /></td>
            <td class="soft">{{ beside(g) }}</td>
            <td class="deeds">
              <RouterLink class="act" :to="{ query: { plan: 'grant-policy', ...asked(g) } }"
                >Change</RouterLink
              >
              <RouterLink class="act" :to="{ query: { plan: 'withdraw-grant', ...asked(g) } }"
                >Preview withdrawing</RouterLink
              >
            </td>
          </tr>
        </template>
      </tbody>
    </VTable>
    <p v-else-if="data" class="empty">
      Nothing was granted to any namespace yet.
      <RouterLink
        v-if="data.orchestrators.length"
        class="act"
        data-offered
        :to="{ query: { plan: 'grant-policy' } }"
        >Grant a policy</RouterLink
      >
      <RouterLink v-else class="act" data-offered to="/consumers/orchestrators"
        >Connect an orchestrator</RouterLink
      >
    </p>
    <ThreadsDrawing v-if="data?.threads.length" :threads="data.threads" />
    <p v-if="others.length" class="small others">
      Without a grant:
      <template v-for="(n, i) in others" :key="`${n.orchestrator}/${n.name}`"
        >{{ i ? ", " : ""
        }}<RouterLink :to="pathOfNamespace(n.orchestrator, n.name)">{{ n.name }}</RouterLink></template
      >.
    </p>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 150px;
  max-width: 240px;
  vertical-align: top;
}
tr.more td {
  border-top: 1px dotted var(--rule2);
}
.deeds {
  white-space: nowrap;
}
.deeds .act + .act {
  margin-left: 12px;
}
.others {
  padding-top: 10px;
}
.others a {
  text-decoration: underline;
  text-underline-offset: 3px;
}
</style>
