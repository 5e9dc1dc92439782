<script setup lang="ts">
import { computed } from "vue";
import { useRouter } from "vue-router";
import type { Thread } from "../../api/client";
import { binarySize, count } from "../../lib/format";
import { pathOf, pathOfNamespace } from "../../lib/paths";
import { threadsOf } from "./threads";

/**
 * Who takes how much by which class from which pool: threads from namespaces through classes to pools, as
 * wide as what was promised on them.
 */
const props = defineProps<{ threads: Thread[] }>();
const WIDTH = 1240;
const HEIGHT = 250;
const drawn = computed(() => threadsOf(props.threads, WIDTH, HEIGHT));
const router = useRouter();
const open = (column: number, name: string, of: string) =>
  void router.push(
    column === 0 ? pathOfNamespace(of, name) : column === 1 ? "/consumers/classes" : pathOf("pool", name),
  );
</script>

<template>
  <section aria-label="Who takes what from where">
    <div class="sec next">
      <h2>Who takes what from where</h2>
      <span class="small">As wide as what claims were promised; what is kept aside is hatched.</span>
    </div>
    <svg
      :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
      class="threads"
      role="list"
      aria-label="Namespaces, classes, pools"
    >
      <defs>
        <pattern id="aside" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" class="well" />
          <path d="M0 0V6" class="hatch" />
        </pattern>
      </defs>
      <g v-for="r in drawn.ribbons" :key="r.key" role="listitem" :aria-label="r.title">
        <path :d="r.path" :class="r.aside ? 'kept' : 'ribbon'">
          <title>{{ r.title }}</title>
        </path>
      </g>
      <g
        v-for="p in drawn.posts"
        :key="p.key"
        class="post"
        role="listitem"
        tabindex="0"
        :aria-label="`${p.name}: ${binarySize(p.bytes)} in ${count(p.claims, 'claim')}`"
        @click="open(p.column, p.name, p.of)"
        @keydown.enter="open(p.column, p.name, p.of)"
      >
        <rect :x="p.x" :y="p.y" width="5" :height="p.height" class="bar" />
        <text
          :x="p.column === 2 ? p.x - 8 : p.x + 13"
          :y="p.label"
          :text-anchor="p.column === 2 ? 'end' : 'start'"
        >
          <tspan class="called">{{ p.name }}</tspan>
          <tspan dx="6">{{ binarySize(p.bytes) }}</tspan>
        </text>
      </g>
    </svg>
  </section>
</template>

<style scoped>
.next {
  padding-top: 18px;
}
.threads {
  display: block;
  width: 100%;
  max-height: 300px;
}
.ribbon {
  fill: var(--hay);
  opacity: 0.42;
}
.kept {
  fill: url(#aside);
  opacity: 0.9;
}
.well {
  fill: var(--well);
}
.hatch {
  stroke: var(--edge);
  stroke-width: 1.6;
}
.bar {
  fill: var(--timber);
}
.post {
  cursor: pointer;
}
text {
  font: 430 13px var(--ui);
  fill: var(--ink);
  paint-order: stroke;
  stroke: var(--paper);
  stroke-width: 4px;
}
.called {
  font-weight: 640;
}
</style>
