<script setup lang="ts">
import { computed } from "vue";
import { useHosts, type Host } from "../../api/client";
import { count, say, transport } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import GateLanes from "../../parts/GateLanes.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ConsumerTabs from "../consumers/ConsumerTabs.vue";

const { data, error } = useHosts();
/** By what it connects, in words. */
const by = (h: Host) => say(h.transports.map(transport));
const hosts = computed(() => data.value?.hosts ?? []);
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Hosts</h1>
      <ConsumerTabs />
      <p v-if="data">
        {{ count(hosts.length, "host")
        }}{{ data.groups.length ? `, in ${count(data.groups.length, "group")}` : "" }}, each let in under its
        own names.
      </p>
      <span class="grow" />
      <RouterLink v-if="hosts.length" class="act" :to="{ query: { plan: 'attach-volume' } }"
        >Preview attaching a volume</RouterLink
      >
      <RouterLink v-if="hosts.length" class="act" :to="{ query: { plan: 'save-host' } }"
        >Register a host</RouterLink
      >
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="hosts.length" class="plain">
      <thead>
        <tr>
          <th>Host</th>
          <th>Group</th>
          <th>It connects by</th>
          <th>Volumes</th>
          <th class="n">Paths</th>
          <th>State, and why</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="h in hosts" :key="h.name">
          <td class="name">
            <StateMark :lamp="h.state.lamp" />{{ " " }}
            <RouterLink :to="pathOf('host', h.name)"
              ><b>{{ h.name }}</b></RouterLink
            >
          </td>
          <td class="soft name">{{ h.group }}</td>
          <td class="nowrap">{{ by(h) }}</td>
          <td>
            <template v-for="(v, i) in h.volumes" :key="v"
              >{{ i ? ", " : "" }}<RouterLink :to="pathOf('reach', v)">{{ v }}</RouterLink></template
            >
            <span v-if="!h.volumes.length" class="soft">none</span>
          </td>
          <td class="n nowrap">{{ h.paths ? `${h.live} of ${h.paths}` : "" }}</td>
          <td class="soft">{{ h.state.reason }}</td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="data" class="empty">
      No host yet.
      <RouterLink class="act" data-offered :to="{ query: { plan: 'save-host' } }">Register a host</RouterLink>
      by the name its initiator has, then attach volumes to it.
    </p>
    <section v-if="data?.doubtful.length" aria-label="Where something is missing">
      <div class="sec next">
        <h2>Where something is missing</h2>
        <span class="small"
          >An open gate is the step that is missing, and what to do about it.<template
            v-if="data.doubtful_count > data.doubtful.length"
          >
            The first {{ data.doubtful.length }} of {{ data.doubtful_count.toLocaleString("en") }}.</template
          ></span
        >
      </div>
      <GateLanes :lanes="data.doubtful" by="host" both />
    </section>
    <p v-if="data?.groups.length" class="small groups">
      Attaching to a group attaches to each of its hosts: {{ say(data.groups) }}.
    </p>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 130px;
  max-width: 220px;
}
.nowrap {
  white-space: nowrap;
}
.next {
  padding-top: 16px;
}
.groups {
  padding-top: 10px;
}
</style>
