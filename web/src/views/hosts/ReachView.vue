<script setup lang="ts">
import { computed } from "vue";
import { useAttachments, useBarn, useVolume } from "../../api/client";
import { count, say, transport } from "../../lib/format";
import CommandLine from "../../parts/CommandLine.vue";
import CopyName from "../../parts/CopyName.vue";
import GateLanes from "../../parts/GateLanes.vue";
import LineageCards from "../../parts/LineageCards.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import { volumeCards } from "../volumes/cards";
import { hostsCard } from "./cards";

/** Who reaches a volume, and what is missing on the way. */
const props = defineProps<{ name: string }>();
const { data: volume, error } = useVolume(() => props.name);
const { data: lanes } = useAttachments(() => props.name);
const { data: barn } = useBarn();
const pool = computed(() => barn.value?.pools.find((p) => p.name === volume.value?.pool));
const cards = computed(() => {
  const v = volume.value!;
  return [hostsCard(v, lanes.value ?? []), ...volumeCards(v, pool.value, false)];
});
const targets = computed(() => [...new Map((lanes.value ?? []).map((l) => [l.target, l])).values()]);
const served = computed(() => [...new Set((lanes.value ?? []).flatMap((l) => l.paths.map((p) => p.node)))]);
const attached = computed(() => (lanes.value ?? []).map((l) => l.host));
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="volume && lanes">
      <div class="headline">
        <h1><StateMark :lamp="volume.state.lamp" /> {{ volume.name }} <CopyName :name="volume.name" /></h1>
        <p>{{ volume.state.reason }}</p>
        <span class="grow" />
        <RouterLink
          v-if="lanes.length"
          class="act"
          :to="{ query: { plan: 'detach-volume', volume: volume.name } }"
          >Preview detaching it</RouterLink
        >
        <RouterLink class="btn" :to="{ query: { plan: 'attach-volume', volume: volume.name } }"
          >Attach it to a host</RouterLink
        >
      </div>
      <LineageCards :cards="cards" />
      <section aria-label="Who reaches it">
        <div class="sec next">
          <h2>Who reaches it</h2>
          <span class="small"
            >Each host walks the same lane. An open gate is the step that is missing, and what to do about
            it.</span
          >
        </div>
        <GateLanes v-if="lanes.length" :lanes="lanes" by="host" />
        <p v-else class="empty">
          It is attached to no host.
          <RouterLink class="act" data-offered :to="{ query: { plan: 'attach-volume', volume: volume.name } }"
            >Attach it to a host</RouterLink
          >
        </p>
      </section>
      <div v-if="lanes.length" class="halves">
        <section aria-label="On every host">
          <div class="sec"><h2>On every host</h2></div>
          <VTable class="known">
            <tbody>
              <template v-for="l in targets" :key="l.target">
                <tr>
                  <td>Target, by {{ transport(l.transport) }}</td>
                  <td class="mono">{{ l.target }} <CopyName :name="l.target" /></td>
                </tr>
                <tr>
                  <td>Portals</td>
                  <td class="mono">{{ l.paths.map((p) => p.portal).join(", ") }}</td>
                </tr>
                <tr>
                  <td>Its disk is known as</td>
                  <td class="mono">{{ l.disk }} <CopyName :name="l.disk" /></td>
                </tr>
              </template>
              <tr>
                <td>Used as</td>
                <td>
                  {{ lanes[0]!.file_system === "none" ? "a block device" : lanes[0]!.file_system
                  }}{{ lanes[0]!.file_system === "gfs2" ? ", which hosts share" : "" }}
                </td>
              </tr>
            </tbody>
          </VTable>
        </section>
        <section aria-label="How a host lets go of it">
          <div class="sec">
            <h2>How a host lets go of it</h2>
            <span class="small">Then it can be detached. Served by {{ say(served) }}.</span>
          </div>
          <template v-for="l in lanes.slice(0, 4)" :key="l.host">
            <p class="small">
              <b>{{ l.host }}</b>
            </p>
            <CommandLine v-for="c in l.leaving" :key="c" :text="c" />
          </template>
          <p v-if="attached.length > 4" class="small">And {{ count(attached.length - 4, "more host") }}.</p>
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
