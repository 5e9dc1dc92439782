<script setup lang="ts">
import type { PoolAnswer } from "../api/client";
import { binarySize } from "../lib/format";
import { pathOf } from "../lib/paths";
import StateMark from "./StateMark.vue";

/** What each pool says to a policy: that it keeps it, with its room, or all that stands against it. */
defineProps<{ rows: PoolAnswer[] }>();
</script>

<template>
  <div v-for="r in rows" :key="r.pool" class="note answer" :data-answer="r.keeps ? 'yes' : 'no'">
    <StateMark :lamp="r.keeps ? 'sound' : 'failed'" :title="r.keeps ? 'keeps it' : 'cannot keep it'" />
    <div>
      <RouterLink :to="pathOf('pool', r.pool)"
        ><b>{{ r.pool }}</b></RouterLink
      >
      <template v-if="r.keeps">
        keeps it{{ r.room === null ? "" : `: room for ${binarySize(r.room)} more` }}.</template
      >
      <template v-else> cannot.</template>
      <p v-for="said in r.cache" :key="said" class="small">{{ said }}</p>
      <p v-for="a in r.against" :key="a.wish">
        {{ a.sentence }} <span class="soft">{{ a.cure }}</span>
      </p>
    </div>
  </div>
  <p v-if="!rows.length" class="small">There is no pool yet.</p>
</template>

<style scoped>
.answer p {
  margin: 0;
}
</style>
