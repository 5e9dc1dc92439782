<script setup lang="ts">
import { computed } from "vue";
import { useBarn, usePolicies, type Policy } from "../../api/client";
import { count, say } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import VolumeTabs from "../volumes/VolumeTabs.vue";
import SchemeBench from "./SchemeBench.vue";

const { data: barn } = useBarn();
const { data: policies, error } = usePolicies();
const pools = (p: Policy, keeps: boolean) => p.answers.filter((a) => a.keeps === keeps).map((a) => a.pool);
const some = computed(() => policies.value?.some((p) => pools(p, false).length));
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Policies</h1>
      <VolumeTabs />
      <p v-if="policies">What volumes are promised, and which pools can keep it.</p>
      <span class="grow" />
      <RouterLink v-if="policies?.length" class="act" :to="{ query: { plan: 'save-policy' } }"
        >Write a policy</RouterLink
      >
    </div>
    <ProblemNote :error="error" />
    <VTable v-if="policies?.length" class="plain">
      <thead>
        <tr>
          <th>Policy</th>
          <th>It promises</th>
          <th>Meant for</th>
          <th>Volumes</th>
          <th>Kept by</th>
          <th v-if="some">Not by</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in policies" :key="p.name">
          <td class="nowrap">
            <RouterLink :to="pathOf('policy', p.name)"
              ><b>{{ p.name }}</b></RouterLink
            >
            <span class="soft"> version {{ p.version }}{{ p.draft ? ", a draft" : "" }}</span>
          </td>
          <td>{{ p.promise }}</td>
          <td class="soft">{{ p.meant_for }}</td>
          <td class="nowrap">
            <span v-for="v in p.volumes" :key="v.standing" class="stands">
              <StateMark :lamp="v.lamp" /> {{ v.count }} {{ v.standing }}
            </span>
            <span v-if="!p.volumes.length" class="soft">none yet</span>
          </td>
          <td>{{ pools(p, true).length ? say(pools(p, true)) : "no pool" }}</td>
          <td v-if="some" class="soft">
            <p v-for="a in p.answers.filter((a) => !a.keeps)" :key="a.pool">
              {{ a.pool }}: {{ a.against[0]!.sentence }}
            </p>
          </td>
        </tr>
      </tbody>
    </VTable>
    <p v-else-if="policies && barn" class="empty">
      No policy yet: {{ count(barn.volumes.length, "volume") }} made by hand.
      <RouterLink class="act" data-offered :to="{ query: { plan: 'save-policy' } }"
        >Write a policy</RouterLink
      >
      once, and make volumes by its name.
    </p>
    <SchemeBench />
  </main>
</template>

<style scoped>
.nowrap {
  white-space: nowrap;
}
.stands {
  margin-right: 10px;
}
td p {
  margin: 0;
}
</style>
