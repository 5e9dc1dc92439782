<script setup lang="ts">
import { computed } from "vue";
import { useClaim, useConsumers } from "../../api/client";
import { binarySize, clock, count, percent, span } from "../../lib/format";
import { pathOf, pathOfNamespace } from "../../lib/paths";
import CopyName from "../../parts/CopyName.vue";
import HistoryTable from "../../parts/HistoryTable.vue";
import LineageCards from "../../parts/LineageCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";

/** A claim: what it asks for, what became of it, and what hangs on it both ways. */
const props = defineProps<{ number: number }>();
const { data: claim, error } = useClaim(() => props.number);
const { data: consumers } = useConsumers();
const WHAT: Record<string, string> = {
  waiting: "It waits",
  "being made": "It is being made",
  made: "It is made",
  told: "It is being bound",
  bound: "It is bound",
  "kept aside": "It is kept aside",
  "in the bin": "It is in the bin",
  "handed on": "It was handed on",
  over: "It is over",
};
const SOURCES: Record<string, string> = {
  VolumeSnapshot: "the snapshot",
  PersistentVolumeClaim: "the claim",
};
const cards = computed(() => {
  const c = claim.value!;
  return [
    {
      kind: "Namespace",
      name: c.namespace,
      fact: `in ${c.orchestrator}`,
      to: pathOfNamespace(c.orchestrator, c.namespace),
    },
    ...(c.used_by
      ? [{ kind: "Pod", name: c.used_by, fact: "used it last", to: pathOf("claim", String(c.number)) }]
      : []),
    {
      kind: "Claim",
      name: c.name,
      fact: `asks for ${binarySize(c.size)}`,
      lamp: c.state.lamp,
      to: pathOf("claim", String(c.number)),
      here: true,
    },
    ...(c.policy
      ? [
          {
            kind: "Policy",
            name: c.policy,
            fact: `as the class ${c.class_name}`,
            to: pathOf("policy", c.policy),
          },
        ]
      : []),
    ...(c.volume
      ? [
          {
            kind: "Volume",
            name: c.volume,
            fact: `${binarySize(c.volume_bytes)}, ${percent(c.written / c.volume_bytes)} written`,
            to: pathOf("volume", c.volume),
          },
          {
            kind: "Pool",
            name: c.pool,
            fact: count(c.extents, "extent"),
            to: pathOf("pool", c.pool),
          },
        ]
      : []),
  ];
});
/** What may help a claim that waits. */
const helps = computed(() => {
  const c = claim.value!;
  if (c.life !== "waiting" && c.life !== "bound") return [];
  const grant = { plan: "grant-policy", orchestrator: c.orchestrator, namespace: c.namespace };
  const policy = consumers.value?.classes.find((k) => k.name === c.asked_class)?.policy;
  switch (c.hindrance) {
    case "class unknown":
      return [
        { title: `Publish a class ${c.asked_class}`, to: { plan: "publish-class", name: c.asked_class! } },
      ];
    case "names no class":
      return [{ title: "Publish a default class", to: { plan: "publish-class" } }];
    case "not granted":
    case "over a limit":
      return [
        {
          title: c.hindrance === "not granted" ? "Grant it" : "Grant more",
          to: { ...grant, ...(policy ? { policy } : {}) },
        },
      ];
    default:
      return [];
  }
});
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="claim">
      <div class="headline">
        <h1>
          <StateMark :lamp="claim.state.lamp" /> {{ claim.namespace }}/{{ claim.name }}
          <CopyName :name="claim.name" />
        </h1>
        <p>{{ WHAT[claim.life] }}, since {{ clock(claim.since) }}. {{ claim.state.reason }}</p>
        <span class="grow" />
        <RouterLink v-for="h in helps" :key="h.title" class="btn" :to="{ query: h.to }">{{
          h.title
        }}</RouterLink>
        <template v-if="claim.life === 'kept aside' && claim.volume">
          <RouterLink class="act" :to="{ query: { plan: 'attach-volume', volume: claim.volume } }"
            >Attach it to a host</RouterLink
          >
          <RouterLink class="act" :to="{ query: { plan: 'take-snapshot', volume: claim.volume } }"
            >Take a snapshot</RouterLink
          >
          <RouterLink class="act" :to="{ query: { plan: 'delete-volume', volume: claim.volume } }"
            >Preview deleting</RouterLink
          >
          <RouterLink class="btn" :to="{ query: { plan: 'bind-again', claim: String(claim.number) } }"
            >Give it to a claim</RouterLink
          >
        </template>
      </div>
      <LineageCards :cards="cards" />
      <div class="halves">
        <section aria-label="What it is">
          <div class="sec next"><h2>There and here</h2></div>
          <VTable class="known">
            <tbody>
              <tr>
                <td>It names the class</td>
                <td>{{ claim.asked_class ?? "none, and there was no default" }}</td>
              </tr>
              <tr>
                <td>It asks for</td>
                <td>
                  {{ binarySize(claim.size)
                  }}<span v-if="claim.promised && claim.promised !== claim.size" class="soft">
                    , promised {{ binarySize(claim.promised) }}</span
                  >, {{ claim.modes.join(", ") }},
                  {{ claim.volume_mode === "Block" ? "as a block device" : "as a file system" }}
                </td>
              </tr>
              <tr>
                <td>Its object there</td>
                <td class="mono">
                  <template v-if="claim.object_name"
                    >{{ claim.object_name }} <CopyName :name="claim.object_name"
                  /></template>
                  <span v-else class="soft">none yet</span>
                </td>
              </tr>
              <tr>
                <td>Its uid there</td>
                <td class="mono">{{ claim.uid }} <CopyName :name="claim.uid" /></td>
              </tr>
              <tr>
                <td>The volume's handle</td>
                <td class="mono">
                  <template v-if="claim.handle"
                    >{{ claim.handle }} <CopyName :name="claim.handle"
                  /></template>
                  <span v-else class="soft">none yet</span>
                </td>
              </tr>
              <tr v-if="claim.filled_from">
                <td>Filled from</td>
                <td>
                  {{ SOURCES[claim.filled_from.kind] ?? claim.filled_from.kind }}
                  {{ claim.filled_from.name
                  }}<template v-if="claim.filled_from.volume"
                    >, here {{ claim.filled_from.snapshot || "a snapshot that is gone by now" }} of
                    <RouterLink :to="pathOf('volume', claim.filled_from.volume)">{{
                      claim.filled_from.volume
                    }}</RouterLink></template
                  ><span v-else class="soft">, of which nothing is here</span>
                </td>
              </tr>
              <tr>
                <td>With the claim it</td>
                <td>{{ claim.reclaim === "Retain" ? "is kept aside" : "goes into the bin" }}</td>
              </tr>
              <tr>
                <td>Attached to</td>
                <td>
                  <template v-for="(h, i) in claim.hosts" :key="h"
                    >{{ i ? ", " : "" }}<RouterLink :to="pathOf('host', h)">{{ h }}</RouterLink></template
                  >
                  <span v-if="!claim.hosts.length" class="soft">no node now</span>
                </td>
              </tr>
              <tr v-if="claim.full_in !== null">
                <td>At its pace</td>
                <td>its room is used up in about {{ span(claim.full_in) }}</td>
              </tr>
              <tr>
                <td>Seen first</td>
                <td>{{ clock(claim.seen_at) }}</td>
              </tr>
            </tbody>
          </VTable>
          <template v-if="claim.snapshots.length">
            <div class="sec next"><h2>Its snapshots, there and here</h2></div>
            <VTable class="plain">
              <thead>
                <tr>
                  <th>There</th>
                  <th>Here</th>
                  <th>Taken</th>
                  <th>Handle</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="s in claim.snapshots" :key="s.name">
                  <td>
                    <template v-if="s.there">{{ s.there }}</template>
                    <span v-else-if="s.fills" class="soft">to fill {{ s.fills }}</span>
                    <span v-else class="soft">nobody asked for it there</span>
                  </td>
                  <td :title="s.state.reason"><StateMark :lamp="s.state.lamp" /> {{ s.name }}</td>
                  <td>{{ s.taken_at ? clock(s.taken_at) : "being taken" }}</td>
                  <td class="mono">{{ s.handle }} <CopyName :name="s.handle" /></td>
                </tr>
              </tbody>
            </VTable>
          </template>
          <template v-if="claim.may_have.length">
            <p class="small next">Claims that wait and could have it:</p>
            <ul>
              <li v-for="c in claim.may_have" :key="c.number">
                <RouterLink
                  class="act"
                  :to="{
                    query: { plan: 'bind-again', claim: String(claim.number), to: String(c.number) },
                  }"
                  >{{ c.namespace }}/{{ c.name }}</RouterLink
                >, which asks for {{ binarySize(c.size) }}
              </li>
            </ul>
          </template>
        </section>
        <section aria-label="What was done with it">
          <div class="sec next"><h2>What was done with it</h2></div>
          <HistoryTable v-if="claim.history.length" :lines="claim.history" />
          <p v-else class="small">No change has touched it yet.</p>
          <template v-if="claim.manifest">
            <div class="sec next">
              <h2>As the orchestrator is told of it</h2>
              <CopyName :name="claim.manifest" />
            </div>
            <pre class="mono manifest" tabindex="0">{{ claim.manifest }}</pre>
          </template>
        </section>
      </div>
    </template>
    <p v-else-if="!error" class="empty">Reading the claim …</p>
  </main>
</template>

<style scoped>
.next {
  padding-top: 12px;
}
.manifest {
  margin: 0;
  padding: 8px 10px;
  max-height: 300px;
  overflow: auto;
  background: var(--well);
  font-size: var(--t-s);
}
</style>
