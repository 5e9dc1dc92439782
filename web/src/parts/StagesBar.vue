<script setup lang="ts">
import type { Stage } from "../api/client";
import StateMark from "./StateMark.vue";

/** The work in its order, and which stage is next. */
defineProps<{ stages: Stage[] }>();
</script>

<template>
  <ol class="stages" aria-label="Stages of the work">
    <li
      v-for="(s, i) in stages"
      :key="s.name"
      :class="s.state"
      :aria-current="s.state === 'next' ? 'step' : undefined"
      :data-stage="s.name"
    >
      <span class="head"
        ><StateMark :lamp="s.state === 'done' ? 'sound' : 'away'" /><b>{{ i + 1 }} {{ s.name }}</b></span
      >
      <span class="soft">{{ s.sentence }}</span>
      <RouterLink v-if="s.state === 'next'" class="act" :to="s.path" :data-offered="true">{{
        s.offer
      }}</RouterLink>
      <RouterLink v-else-if="s.state === 'later'" class="later-link" :to="s.path">{{ s.offer }}</RouterLink>
    </li>
  </ol>
</template>

<style scoped>
.stages {
  display: grid;
  grid-template-columns: repeat(5, minmax(0, 1fr));
  border-top: 1.5px solid var(--ink);
  border-bottom: 1px solid var(--rule);
  margin-bottom: 10px;
  font-size: var(--t-s);
}
li {
  display: flex;
  flex-direction: column;
  padding: 6px 12px 8px 0;
  gap: 1px;
}
li + li {
  border-left: 1px solid var(--rule);
  padding-left: 12px;
}
.head {
  display: flex;
  gap: 6px;
  align-items: center;
}
.head b {
  font-weight: 640;
}
.later .head b {
  color: var(--soft);
  font-weight: 500;
}
.later-link {
  color: var(--soft);
  text-decoration: underline;
  text-decoration-color: var(--rule2);
  text-underline-offset: 3px;
}
.next {
  background: linear-gradient(var(--sheet), var(--sheet));
}
</style>
