<script setup lang="ts">
import { computed, ref } from "vue";
import type { Barn } from "../../api/client";
import StateMark from "../../parts/StateMark.vue";
import { pathOf } from "../../lib/paths";

/** What needs a person, worst first; five at a time. */
const props = defineProps<{ items: Barn["attention"] }>();
const MOST = 5;
const all = ref(false);
const shown = computed(() => (all.value ? props.items : props.items.slice(0, MOST)));
</script>

<template>
  <section class="attention" aria-label="Needs a person">
    <div class="sec">
      <h2>Needs a person</h2>
      <span class="small">{{ items.length }}</span><span class="grow" /><span class="small">worst first</span>
    </div>
    <p v-if="!items.length" class="none">Nothing. Everything reports in time and nothing is short.</p>
    <ul>
      <li v-for="item in shown" :key="item.kind + item.name + item.title">
        <StateMark :lamp="item.lamp" />
        <div>
          <RouterLink class="title" :to="pathOf(item.kind, item.name)">{{ item.title }}</RouterLink>
          <p>{{ item.sentence }}</p>
        </div>
      </li>
    </ul>
    <VBtn v-if="items.length > MOST" class="act more" @click="all = !all">
      {{ all ? "Show the worst five" : `and ${items.length - MOST} more` }}
    </VBtn>
  </section>
</template>

<style scoped>
ul {
  border-top: 1.5px solid var(--ink);
}
li {
  display: grid;
  grid-template-columns: 20px 1fr;
  padding: 8px 0;
  border-bottom: 1px solid var(--rule);
  font-size: var(--t-s);
  line-height: 1.38;
}
li :deep(svg) {
  margin-top: 3px;
}
li > :first-child {
  align-items: start;
}
.title {
  font-size: var(--t-m);
  font-weight: 640;
}
.title:hover {
  text-decoration: underline;
}
.none {
  border-top: 1.5px solid var(--ink);
  padding: 10px 0;
  color: var(--soft);
}
.none + ul {
  border: 0;
}
.more {
  display: inline-block;
  padding-top: 6px;
  font-size: var(--t-s);
}
</style>
