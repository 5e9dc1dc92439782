<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useAdoptions } from "../api/client";
import { size, span } from "../lib/format";
import ProblemNote from "../parts/ProblemNote.vue";
import StateMark from "../parts/StateMark.vue";
import { listed, useSheet, type Wish } from "./kind";
import NameChips from "./NameChips.vue";

/** Which volumes are to keep which policy, with what each policy would take. */
const params = defineModel<Wish>({ required: true });
const { barn, asked } = useSheet();
const volumes = ref(listed(asked("volumes")));
const policy = ref(asked("policy"));
const names = computed(() => (barn.value?.volumes ?? []).filter((v) => !v.binned).map((v) => v.name));
const { data: found, error } = useAdoptions(volumes);
watch([volumes, policy], () => (params.value = { volumes: [...volumes.value], policy: policy.value }), {
  immediate: true,
});
const lamp = (p: { against: unknown[]; unchanged: boolean }) =>
  p.unchanged ? "away" : p.against.length ? "failed" : "sound";
</script>

<template>
  <NameChips v-model="volumes" label="Volumes" :names="names" />
  <div class="choices">
    <ProblemNote :error="error" />
    <p v-if="!volumes.length" class="small">Choose a volume: then each policy says what it would take.</p>
    <p v-else-if="!found && !error" class="small">Asking each policy …</p>
    <p v-else-if="found && !found.length" class="small">
      There is no policy yet. <RouterLink to="/policies">Write one</RouterLink> first.
    </p>
    <VTable v-else-if="found" class="plain">
      <thead>
        <tr>
          <th>Policy</th>
          <th>It promises</th>
          <th>For that</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in found" :key="p.policy">
          <td>
            <VBtn class="chip" :aria-pressed="policy === p.policy" @click="policy = p.policy">{{
              p.policy
            }}</VBtn>
          </td>
          <td>{{ p.promise }}</td>
          <td>
            <StateMark :lamp="lamp(p)" class="lamp" />
            <template v-if="p.unchanged">kept already</template>
            <template v-else-if="p.against.length">
              <p v-for="a in p.against" :key="a.volume + a.sentence" class="against">
                {{ a.sentence }} <span class="soft">{{ a.cure }}</span>
              </p>
            </template>
            <template v-else-if="p.writes">
              {{ size(p.writes) }} are written{{ p.anew.length ? " anew, beside what is there" : "" }}, in
              {{ span(p.seconds) }} at the least
            </template>
            <template v-else>nothing is written</template>
          </td>
        </tr>
      </tbody>
    </VTable>
  </div>
</template>

<style scoped>
.choices {
  flex-basis: 100%;
}
.choices td {
  vertical-align: top;
}
.against {
  margin: 0;
}
.against:first-of-type {
  display: inline;
}
.lamp {
  margin-right: 5px;
}
</style>
