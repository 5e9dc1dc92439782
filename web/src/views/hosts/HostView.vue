<script setup lang="ts">
import { computed } from "vue";
import { useHost } from "../../api/client";
import { clock, count, say } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import CopyName from "../../parts/CopyName.vue";
import GateLanes from "../../parts/GateLanes.vue";
import LineageCards from "../../parts/LineageCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import WhatWasDone from "../../parts/WhatWasDone.vue";
import VmHostTable from "../vms/VmHostTable.vue";

const props = defineProps<{ name: string }>();
const { data: host, error } = useHost(() => props.name);
const cards = computed(() => {
  const h = host.value!;
  const portals = [...new Set(h.lanes.flatMap((l) => l.paths.map((p) => p.node)))];
  return [
    {
      kind: h.group ? `Host, of ${h.group}` : "Host",
      name: h.name,
      fact: `${h.live} of ${count(h.paths, "path")} connected`,
      lamp: h.state.lamp,
      to: pathOf("host", h.name),
      here: true,
    },
    ...h.lanes.slice(0, 2).map((l) => ({
      kind: h.lanes.length > 1 ? `Volume, ${l.read_only ? "to read" : "to read and write"}` : "Volume",
      name: l.volume,
      fact: l.mounted ? `mounted at ${l.mounted}` : l.state.reason,
      lamp: l.state.lamp,
      to: pathOf("reach", l.volume),
    })),
    ...(portals.length
      ? [
          {
            kind: "Served by",
            name: say(portals),
            fact: say([...new Set(h.lanes.flatMap((l) => l.paths.map((p) => p.portal)))]),
            lamp: h.gateways.lamp,
            to: pathOf("node", portals[0]!),
          },
        ]
      : []),
  ];
});
/** What it tells of itself, where it does. */
const heard = computed(() => {
  const h = host.value!;
  if (!h.agent_url) return "Nothing on it tells: what its nodes see is known, and no more.";
  if (h.contact === "heard") return `Heard since ${clock(h.since!)}.`;
  return h.contact === "awaited" ? "It has not told yet." : h.state.reason;
});
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="host">
      <div class="headline">
        <h1><StateMark :lamp="host.state.lamp" /> {{ host.name }} <CopyName :name="host.name" /></h1>
        <p>{{ host.state.reason }}</p>
        <span class="grow" />
        <RouterLink class="act" :to="{ query: { plan: 'save-host', host: host.name } }"
          >Change what is known of it</RouterLink
        >
        <RouterLink class="act" :to="{ query: { plan: 'connect-vm-host', host: host.name } }">{{
          host.runs ? "Change how it is asked" : "Connect it as a VM host"
        }}</RouterLink>
        <RouterLink
          v-if="host.runs"
          class="act"
          :to="{ query: { plan: 'disconnect-vm-host', host: host.name } }"
          >Preview disconnecting it</RouterLink
        >
        <RouterLink v-else class="act" :to="{ query: { plan: 'delete-host', host: host.name } }"
          >Preview forgetting it</RouterLink
        >
        <RouterLink class="btn" :to="{ query: { plan: 'attach-volume', hosts: host.name } }"
          >Attach a volume</RouterLink
        >
      </div>
      <LineageCards :cards="cards" />
      <section v-if="host.runs" aria-label="What it runs">
        <div class="sec next">
          <h2>What it runs</h2>
          <span class="small"
            >Asked at {{ host.runs.url }} as {{ host.runs.user
            }}{{ host.runs.missing.length ? `, which lacks ${say(host.runs.missing)}` : "" }}.</span
          >
        </div>
        <VmHostTable :hosts="[host]" />
      </section>
      <section aria-label="What it reaches">
        <div class="sec next">
          <h2>What it reaches</h2>
          <span class="small"
            >Each volume walks the same lane. An open gate is the step that is missing.</span
          >
        </div>
        <GateLanes v-if="host.lanes.length" :lanes="host.lanes" by="volume" />
        <p v-else class="empty">
          Nothing is attached to it.
          <RouterLink class="act" data-offered :to="{ query: { plan: 'attach-volume', hosts: host.name } }"
            >Attach a volume</RouterLink
          >
        </p>
      </section>
      <section v-if="host.shares.length" aria-label="Shares it has mounted">
        <div class="sec next">
          <h2>Shares it has mounted</h2>
          <span class="small">As it tells.</span>
        </div>
        <VTable class="plain">
          <thead>
            <tr>
              <th>Share</th>
              <th>Mounted from</th>
              <th>Where</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in host.shares" :key="s.at">
              <td>
                <RouterLink v-if="s.name" :to="pathOf('share', s.name)"
                  ><b>{{ s.name }}</b></RouterLink
                >
                <span v-else class="soft">none that is known here</span>
              </td>
              <td class="mono">{{ s.source }}</td>
              <td class="mono">{{ s.at }}</td>
            </tr>
          </tbody>
        </VTable>
      </section>
      <div class="halves">
        <section aria-label="What is known of it">
          <div class="sec"><h2>What is known of it</h2></div>
          <VTable class="known">
            <tbody>
              <tr v-for="(n, i) in host.initiators" :key="n">
                <td>{{ i ? "" : "It connects as" }}</td>
                <td class="mono">{{ n }} <CopyName :name="n" /></td>
              </tr>
              <tr>
                <td>It calls itself</td>
                <td v-if="host.as_registered">the same, as it tells</td>
                <td v-else class="mono">
                  {{ host.told_names.length ? host.told_names.join(" ") : "not told" }}
                </td>
              </tr>
              <tr>
                <td>Runs there</td>
                <td>{{ host.services.length ? say(host.services) : "nothing of it, or not told" }}</td>
              </tr>
              <tr>
                <td>It tells at</td>
                <td class="mono">{{ host.agent_url || "no address" }}</td>
              </tr>
              <tr>
                <td>Heard</td>
                <td>{{ heard }}</td>
              </tr>
            </tbody>
          </VTable>
        </section>
        <section aria-label="What was done with it">
          <div class="sec"><h2>What was done with it</h2></div>
          <WhatWasDone made="Registered" :at="host.made_at" :change="host.change" :lines="host.history" />
        </section>
      </div>
    </template>
    <p v-else-if="!error" class="empty">Reading {{ name }} …</p>
  </main>
</template>

<style scoped>
.next {
  padding-top: 14px;
}
</style>
