<script setup lang="ts">
import { computed } from "vue";
import { useRouter } from "vue-router";
import { useBarn, useVm } from "../../api/client";
import { binarySize, clock, count, percent, size } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import BarnMap from "../../parts/BarnMap.vue";
import CopyName from "../../parts/CopyName.vue";
import KinCards from "../../parts/KinCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import WhatWasDone from "../../parts/WhatWasDone.vue";

const props = defineProps<{ name: string }>();
const { data: vm, error } = useVm(() => props.name);
const { data: barn } = useBarn();
const router = useRouter();
/** Its volumes that are there, as a change is wished for all of them. */
const all = computed(() => vm.value!.parts.flatMap((p) => (p.volume ? [p.volume.name] : [])).join(","));
/** Those that stay when it is switched off: snapshots are of them. */
const lasting = computed(() => vm.value!.lasting.join(","));
/** Whether nobody may use any of it. */
const offline = computed(() => vm.value!.parts.every((p) => !p.volume || p.volume.offline));
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="vm">
      <div class="headline">
        <h1><StateMark :lamp="vm.state.lamp" /> {{ vm.name }} <CopyName :name="vm.name" /></h1>
        <p>
          {{ vm.state.reason }}{{ " "
          }}<template v-if="!vm.binned && vm.powered.reason !== vm.state.reason">
            {{ vm.powered.reason }}</template
          >
        </p>
        <span class="grow" />
        <template v-if="vm.binned">
          <RouterLink class="btn" :to="{ query: { plan: 'restore-vm', vm: vm.name } }"
            >Preview bringing it back</RouterLink
          >
        </template>
        <template v-else>
          <RouterLink
            class="act"
            v-if="!vm.host"
            :to="{ query: { plan: 'offline-volume', volumes: all, offline: offline ? 'no' : 'yes' } }"
            >{{ offline ? "Preview bringing it online" : "Preview taking it offline" }}</RouterLink
          >
          <RouterLink v-if="!vm.host" class="act" :to="{ query: { plan: 'delete-vm', vm: vm.name } }"
            >Preview deleting it</RouterLink
          >
          <RouterLink class="act" :to="{ query: { plan: 'take-snapshot', volumes: lasting } }"
            >Preview a snapshot of all</RouterLink
          >
          <RouterLink v-if="vm.host" class="act" :to="{ query: { plan: 'keep-memory', vm: vm.name } }"
            >Preview one with memory</RouterLink
          >
          <RouterLink v-if="vm.template" class="btn" :to="{ query: { plan: 'clone-vm', vm: vm.name } }"
            >Preview a VM from it</RouterLink
          >
          <RouterLink
            v-else
            class="btn"
            :to="{ query: { plan: vm.host ? 'power-off' : 'power-on', vm: vm.name } }"
            >{{ vm.host ? "Preview switching it off" : "Preview switching it on" }}</RouterLink
          >
        </template>
      </div>
      <KinCards link="vm" :name="vm.name" />
      <section aria-label="Its volumes">
        <div class="sec next wraps">
          <h2>Its volumes</h2>
          <span class="small"
            >{{ count(vm.cpus, "processor") }}, {{ binarySize(vm.memory_bytes) }} of memory;
            {{ size(vm.size_bytes) }} in all.{{ vm.keeps ? ` ${vm.keeps.reason}` : "" }}</span
          >
          <span class="grow" />
          <template v-if="!vm.binned">
            <RouterLink class="act" :to="{ query: { plan: 'keep-policy', volumes: all } }"
              >Preview another policy</RouterLink
            >
            <RouterLink class="act" :to="{ query: { plan: 'move-vm', vm: vm.name } }"
              >Preview moving it</RouterLink
            >
            <RouterLink class="act" :to="{ query: { plan: 'rename-vm', vm: vm.name } }"
              >Preview renaming it</RouterLink
            >
            <RouterLink
              v-if="!vm.host"
              class="act"
              :to="{
                query: { plan: 'set-template', vm: vm.name, template: vm.template ? 'no' : 'yes' },
              }"
              >{{ vm.template ? "Preview making it a VM again" : "Preview making it a template" }}</RouterLink
            >
          </template>
        </div>
        <VTable class="plain">
          <thead>
            <tr>
              <th>What</th>
              <th>Called there</th>
              <th>Volume</th>
              <th class="n">Size</th>
              <th class="n">Written</th>
              <th>Policy</th>
              <th>Pool</th>
              <th>State, and why</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in vm.parts" :key="p.called">
              <td class="nowrap">{{ p.called }}</td>
              <td class="soft name">{{ p.label }}</td>
              <template v-if="p.volume">
                <td class="name">
                  <StateMark :lamp="p.volume.state.lamp" />{{ " " }}
                  <RouterLink :to="pathOf('volume', p.volume.name)"
                    ><b>{{ p.volume.name }}</b></RouterLink
                  >
                </td>
                <td class="n">{{ size(p.volume.size_bytes) }}</td>
                <td class="n">{{ percent(p.volume.written_bytes / p.volume.size_bytes) }}</td>
                <td>
                  <RouterLink v-if="p.volume.keeps" :to="pathOf('policy', p.volume.keeps.policy)">{{
                    p.volume.keeps.policy
                  }}</RouterLink>
                  <span v-else class="soft">{{ p.volume.counted }} by {{ p.volume.level }}</span>
                  <span v-if="p.volume.keeps && p.volume.keeps.standing !== 'kept'" class="soft">
                    {{ p.volume.keeps.standing }}</span
                  >
                </td>
                <td>
                  <RouterLink :to="pathOf('pool', p.volume.pool)">{{ p.volume.pool }}</RouterLink>
                </td>
                <td class="soft">{{ p.volume.state.reason }}</td>
              </template>
              <td v-else colspan="6" class="soft">gone for good: the bin was emptied of it</td>
            </tr>
          </tbody>
        </VTable>
      </section>
      <section v-if="barn" aria-label="Where it lies">
        <div class="sec next">
          <h2>Where it lies</h2>
          <span class="small">Blue is what all its volumes take of each disk.</span>
        </div>
        <BarnMap
          :rooms="barn.rooms"
          :lit="vm.shares"
          @open="(d) => router.push(pathOf('disk', d.name))"
          @open-node="(n) => router.push(pathOf('node', n.name))"
        />
      </section>
      <div class="halves">
        <section aria-label="Snapshots of all its volumes">
          <div class="sec next"><h2>Snapshots of all its volumes</h2></div>
          <VTable v-if="vm.snapshots.length" class="plain">
            <thead>
              <tr>
                <th>Snapshot</th>
                <th>Taken</th>
                <th>With memory</th>
                <th>What can be done</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="s in vm.snapshots" :key="s.name">
                <td class="name">{{ s.name }} <CopyName :name="s.name" /></td>
                <td>{{ clock(s.taken_at) }}</td>
                <td class="name">
                  <RouterLink v-if="s.memory" :to="pathOf('volume', s.memory)">{{ s.memory }}</RouterLink>
                  <span v-else class="soft">without</span>
                </td>
                <td>
                  <RouterLink
                    class="act"
                    :to="{ query: { plan: 'revert-vm', vm: vm.name, snapshot: s.name } }"
                    >Preview going back to it</RouterLink
                  >{{ " " }}
                  <RouterLink class="act" :to="{ query: { plan: 'clone-vm', vm: vm.name, snapshot: s.name } }"
                    >Preview a VM from it</RouterLink
                  >
                </td>
              </tr>
            </tbody>
          </VTable>
          <p v-else class="empty">
            None yet. One is taken of all its volumes at one moment, while it is in use.
            <RouterLink
              v-if="!vm.binned"
              class="act"
              data-offered
              :to="{ query: { plan: 'take-snapshot', volumes: lasting } }"
              >Preview one</RouterLink
            >
          </p>
        </section>
        <section aria-label="What was done with it">
          <div class="sec next"><h2>What was done with it</h2></div>
          <WhatWasDone made="Made" :at="vm.made_at" :change="vm.change" :lines="vm.history" />
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
.name {
  overflow-wrap: anywhere;
  max-width: 260px;
}
.nowrap {
  white-space: nowrap;
}
.wraps {
  flex-wrap: wrap;
}
</style>
