<script setup lang="ts">
import { computed } from "vue";
import { useHosts, useVms } from "../../api/client";
import { binarySize, count, say, terabytes } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ConsumerTabs from "../consumers/ConsumerTabs.vue";
import VmHostTable from "./VmHostTable.vue";

const { data, error } = useVms();
const { data: known } = useHosts();
const runners = computed(() => (known.value?.hosts ?? []).filter((h) => h.runs));
const vms = computed(() => data.value ?? []);
const volumes = computed(() => vms.value.reduce((sum, vm) => sum + vm.volumes, 0));
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>VMs</h1>
      <ConsumerTabs />
      <p v-if="vms.length">
        {{ count(vms.length, "VM") }} of {{ count(volumes, "volume") }}, none of which goes by itself.
      </p>
      <span class="grow" />
      <RouterLink v-if="vms.length" class="act" :to="{ query: { plan: 'make-vm' } }"
        >Preview making a VM</RouterLink
      >
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="vms.length" class="plain">
      <thead>
        <tr>
          <th>VM</th>
          <th>On at</th>
          <th class="n">Processors</th>
          <th class="n">Memory</th>
          <th class="n">Volumes</th>
          <th class="n">Size, TB</th>
          <th>Policies</th>
          <th>Pools</th>
          <th>State, and why</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="vm in vms" :key="vm.name">
          <td class="name">
            <StateMark :lamp="vm.state.lamp" />{{ " " }}
            <RouterLink :to="pathOf('vm', vm.name)"
              ><b>{{ vm.name }}</b></RouterLink
            >
          </td>
          <td class="name">
            <RouterLink v-if="vm.host" :to="pathOf('host', vm.host)">{{ vm.host }}</RouterLink>
            <span v-else class="soft">{{ vm.template ? "off, a template" : "off" }}</span>
          </td>
          <td class="n">{{ vm.cpus }}</td>
          <td class="n nowrap">{{ binarySize(vm.memory_bytes) }}</td>
          <td class="n">{{ vm.volumes }}</td>
          <td class="n">{{ terabytes(vm.size_bytes) }}</td>
          <td>
            <template v-for="(p, i) in vm.policies" :key="p"
              >{{ i ? ", " : "" }}<RouterLink :to="pathOf('policy', p)">{{ p }}</RouterLink></template
            >
            <span v-if="!vm.policies.length" class="soft">none, by hand</span>
          </td>
          <td>{{ say(vm.pools) }}</td>
          <td class="soft">
            {{ vm.state.reason
            }}<template v-if="vm.keeps && vm.keeps.lamp !== 'sound'"> {{ vm.keeps.reason }}</template>
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="data" class="empty">
      No VM yet. It is made of a volume for its configuration and one for each disk, which are kept, deleted
      and brought back together.
      <RouterLink class="act" data-offered :to="{ query: { plan: 'make-vm' } }">Make a VM</RouterLink>
      with disks that you name, or as its descriptor (.ovf) says.
    </p>
    <section v-if="known && data" aria-label="VM hosts">
      <div class="sec next">
        <h2>VM hosts</h2>
        <span v-if="runners.length" class="small"
          >A VM is switched on where the most memory is left, unless somebody says where.</span
        >
      </div>
      <VmHostTable v-if="runners.length" :hosts="runners" />
      <p v-else class="empty">
        No host runs VMs yet. Register one as a host, then connect it as a VM host from its page:
        <RouterLink class="act" to="/hosts">see the hosts</RouterLink>
      </p>
    </section>
  </main>
</template>

<style scoped>
.name {
  overflow-wrap: anywhere;
  min-width: 130px;
  max-width: 240px;
}
.nowrap {
  white-space: nowrap;
}
.next {
  padding-top: 16px;
}
</style>
