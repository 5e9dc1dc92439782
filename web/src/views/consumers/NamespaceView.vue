<script setup lang="ts">
import { computed, ref } from "vue";
import { useNamespace } from "../../api/client";
import { binarySize, count, say } from "../../lib/format";
import CopyName from "../../parts/CopyName.vue";
import MeasureBar from "../../parts/MeasureBar.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ClaimRows from "./ClaimRows.vue";

/** A namespace, for those who work in it: what it may have, what it has, and what a manifest begins with. */
const props = defineProps<{ orchestrator: string; name: string }>();
const { data: space, error } = useNamespace(
  () => props.orchestrator,
  () => props.name,
);
const shown = ref("");
const KINDS = {
  claim: "A claim",
  set: "A set of pods",
  snapshot: "A snapshot",
  restore: "A claim from it",
} as const;
const kind = ref<keyof typeof KINDS>("claim");
const offer = computed(
  () => space.value?.offers.find((o) => o.name === shown.value) ?? space.value?.offers[0],
);
const manifest = computed(() => offer.value?.[kind.value] ?? "");
const most = (bytes: number | null) =>
  bytes === null ? "as much as there is room for" : bytes ? `up to ${binarySize(bytes)} more` : "no more";
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="space">
      <div class="headline">
        <h1><StateMark :lamp="space.state.lamp" /> {{ space.name }} <CopyName :name="space.name" /></h1>
        <p>
          In {{ space.orchestrator }}:
          {{
            say([
              ...(space.waiting ? [`${count(space.waiting, "claim")} waiting`] : []),
              ...(space.bound ? [`${space.bound} bound`] : []),
              ...(space.aside ? [`${space.aside} kept aside`] : []),
            ]) || "no claim yet"
          }}.
        </p>
        <span class="grow" />
        <a
          class="act"
          :href="`/api/orchestrators/${space.orchestrator}/namespaces/${space.name}/manifests.yaml`"
          download
          >Keep it as manifests</a
        >
        <RouterLink class="act" to="/consumers/namespaces">All namespaces</RouterLink>
        <RouterLink
          class="btn"
          :to="{ query: { plan: 'grant-policy', orchestrator: space.orchestrator, namespace: space.name } }"
          >Grant it a policy</RouterLink
        >
      </div>
      <ClaimRows v-if="space.claims.length" :claims="space.claims" alone />
      <p v-else class="empty">
        No claim yet.
        {{ space.offers.length ? "What a manifest begins with stands below." : "Nothing was granted to it." }}
      </p>
      <div class="halves">
        <section aria-label="What it may have">
          <div class="sec next"><h2>What it may have</h2></div>
          <VTable v-if="space.offers.length" class="plain">
            <thead>
              <tr>
                <th>Class</th>
                <th>What that is</th>
                <th>One more claim may ask for</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="o in space.offers" :key="o.name">
                <td>
                  <b>{{ o.name }}</b>
                  <p v-if="o.default" class="small">where none is named</p>
                </td>
                <td>
                  {{ o.promise }}
                  <span class="soft"
                    >{{ o.reclaim === "Retain" ? "Kept when the claim is deleted" : "Goes with the claim" }};
                    {{ o.binding === "Immediate" ? "made at once" : "made for its first pod" }};
                    {{ o.expands ? "may grow" : "does not grow" }}.</span
                  >
                </td>
                <td>{{ most(o.most) }}</td>
              </tr>
            </tbody>
          </VTable>
          <p v-else class="small">Nothing was granted to it: who runs the storage can grant it a policy.</p>
          <div v-for="g in space.grants" :key="g.policy" class="measures">
            <span class="soft">{{ g.policy }}</span>
            <MeasureBar
              :used="g.used_bytes"
              :limit="g.bytes"
              label="Bytes"
              :words="
                g.bytes === null
                  ? `${binarySize(g.used_bytes)}, no limit`
                  : `${binarySize(g.used_bytes)} of ${binarySize(g.bytes)}`
              "
            />
            <MeasureBar
              :used="g.used_claims"
              :limit="g.claims"
              label="Claims"
              :words="
                g.claims === null
                  ? `${count(g.used_claims, 'claim')}, no limit`
                  : `${g.used_claims} of ${count(g.claims, 'claim')}`
              "
            />
          </div>
        </section>
        <section v-if="offer" aria-label="A manifest to begin with">
          <div class="sec next">
            <h2>A manifest to begin with</h2>
            <CopyName :name="manifest" />
          </div>
          <div class="choose">
            <VSelect
              :model-value="offer.name"
              :items="space.offers.map((o) => o.name)"
              label="Class"
              width="170"
              @update:model-value="(v) => (shown = v)"
            />
            <div role="group" aria-label="What it is of" class="lens">
              <VBtn v-for="(title, k) in KINDS" :key="k" :aria-pressed="kind === k" @click="kind = k">{{
                title
              }}</VBtn>
            </div>
          </div>
          <pre class="mono manifest" tabindex="0">{{ manifest }}</pre>
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
.measures {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
  padding-top: 8px;
}
.choose {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 6px 16px;
  padding-bottom: 8px;
}
.manifest {
  margin: 0;
  padding: 8px 10px;
  max-height: 330px;
  overflow: auto;
  background: var(--well);
  font-size: var(--t-s);
}
</style>
