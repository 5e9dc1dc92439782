<script setup lang="ts">
import { computed } from "vue";
import { useMeasured, usePolicy } from "../../api/client";
import { count, say } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import CopyName from "../../parts/CopyName.vue";
import HistoryTable from "../../parts/HistoryTable.vue";
import OnTheWay from "../../parts/OnTheWay.vue";
import PoolAnswers from "../../parts/PoolAnswers.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";
import ComparedTable from "./ComparedTable.vue";

/** A policy: what it promises, who is promised it, and who can keep it. */
const props = defineProps<{ name: string }>();
const { data: policy, error } = usePolicy(() => props.name);
const { data: measured } = useMeasured(() => props.name);
const plan = (kind: string, name: string) => ({ query: { plan: kind, policy: name } });
/** Volumes that keep an older version than the newest. */
const older = computed(() =>
  (policy.value?.users ?? []).filter((u) => u.version < u.newest && !u.binned).map((u) => u.volume),
);
const broken = computed(() => policy.value?.users.filter((u) => u.standing !== "kept").length ?? 0);
</script>

<template>
  <main class="page">
    <ProblemNote :error="error" />
    <template v-if="policy">
      <div class="headline">
        <h1>{{ policy.name }} <CopyName :name="policy.name" /></h1>
        <p>
          Version {{ policy.version }}<b v-if="policy.draft">, a draft: no volume keeps it yet</b>.
          {{ policy.promise }}
          <span v-if="policy.meant_for" class="soft">Meant for {{ policy.meant_for }}.</span>
        </p>
        <span class="grow" />
        <RouterLink class="act" :to="plan('create-volume', policy.name)">Preview a volume by it</RouterLink>
        <RouterLink class="act" :to="plan('save-policy', policy.name)">Change it</RouterLink>
        <RouterLink class="act" :to="plan('delete-policy', policy.name)">Delete it</RouterLink>
      </div>
      <div class="halves">
        <section aria-label="Volumes that keep it">
          <div class="sec">
            <h2>Volumes that keep it</h2>
            <span v-if="policy.users.length" class="small"
              >{{ count(policy.users.length, "volume") }},
              {{ broken ? `${broken} not as promised now` : "all as promised" }}</span
            >
            <span v-else class="small">none yet</span>
            <span class="grow" />
            <RouterLink
              class="act small"
              :to="{ query: { plan: 'keep-policy', policy: policy.name, volumes: older.join(',') } }"
              >{{
                older.length ? `Let ${say(older)} keep version ${policy.version}` : "Let others keep it"
              }}</RouterLink
            >
          </div>
          <VTable v-if="policy.users.length" class="plain">
            <thead>
              <tr>
                <th>Volume</th>
                <th>Pool</th>
                <th class="n">Version</th>
                <th>Standing, and why</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="u in policy.users" :key="u.volume">
                <td>
                  <RouterLink :to="pathOf('volume', u.volume)"
                    ><b>{{ u.volume }}</b></RouterLink
                  >
                  <span v-if="u.binned" class="soft binned">in the bin</span>
                </td>
                <td>
                  <RouterLink :to="pathOf('pool', u.pool)">{{ u.pool }}</RouterLink>
                </td>
                <td class="n">{{ u.version }}</td>
                <td>
                  <StateMark :lamp="u.lamp" /> {{ u.standing }}
                  <span v-if="u.standing !== 'kept'" class="soft">{{ u.sentence }} {{ u.cure }}</span>
                  <OnTheWay :changes="u.mended_by" />
                </td>
              </tr>
            </tbody>
          </VTable>
          <template v-if="measured?.length">
            <div class="sec next"><h2>What is asked of them, and what they do</h2></div>
            <ComparedTable :measured="measured" />
          </template>
          <div class="sec next"><h2>Versions</h2></div>
          <VTable class="plain">
            <thead>
              <tr>
                <th class="n">Version</th>
                <th>It promised</th>
                <th class="n">Volumes</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="v in policy.versions" :key="v.version">
                <td class="n">{{ v.version }}</td>
                <td>{{ v.promise }}</td>
                <td class="n">{{ v.volumes }}</td>
              </tr>
            </tbody>
          </VTable>
        </section>
        <section aria-label="Which pools can keep it">
          <div class="sec"><h2>Which pools can keep it</h2></div>
          <PoolAnswers :rows="policy.answers" />
          <template v-if="policy.history.length">
            <div class="sec next"><h2>What was done with it</h2></div>
            <HistoryTable :lines="policy.history" />
          </template>
        </section>
      </div>
    </template>
  </main>
</template>

<style scoped>
.binned {
  margin-left: 6px;
}
.halves {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 24px;
}
.next {
  margin-top: 16px;
}
@media (max-width: 1000px) {
  .halves {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
