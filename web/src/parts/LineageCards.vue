<script setup lang="ts">
import { onMounted, onUnmounted } from "vue";
import { useRouter, type RouteLocationRaw } from "vue-router";
import type { Lamp } from "../api/client";
import { typing } from "../lib/keys";
import StateMark from "./StateMark.vue";

/** The chain a thing stands in; [ and ] walk it. */
const props = defineProps<{
  cards: { kind: string; name: string; fact: string; lamp?: Lamp; to: RouteLocationRaw; here?: boolean }[];
}>();
const router = useRouter();
function onKey(event: KeyboardEvent) {
  if (typing(event) || (event.key !== "[" && event.key !== "]")) return;
  const here = props.cards.findIndex((c) => c.here);
  const next = props.cards[here + (event.key === "]" ? 1 : -1)];
  if (next) void router.push(next.to);
}
onMounted(() => window.addEventListener("keydown", onKey));
onUnmounted(() => window.removeEventListener("keydown", onKey));
</script>

<template>
  <nav class="chain" aria-label="Lineage">
    <template v-for="(card, i) in cards" :key="card.kind">
      <span v-if="i" class="knot" aria-hidden="true"
        ><svg viewBox="0 0 26 22"><path d="M0 11H7L13 4 19 11H26" /></svg
      ></span>
      <RouterLink
        class="kin"
        :class="{ here: card.here }"
        :to="card.to"
        :aria-current="card.here ? 'page' : undefined"
      >
        <span class="kind">{{ card.kind }}<StateMark v-if="card.lamp" :lamp="card.lamp" word /></span>
        <b :title="card.name">{{ card.name }}</b>
        <span class="fact" :title="card.fact">{{ card.fact }}</span>
      </RouterLink>
    </template>
  </nav>
</template>

<style scoped>
.chain {
  display: flex;
  align-items: stretch;
}
.kin {
  flex: 1 1 0;
  min-width: 0;
  container-type: inline-size;
  background: var(--sheet);
  border: 1px solid var(--rule2);
  padding: 6px 12px 7px;
  font-size: var(--t-s);
  line-height: 1.35;
}
/* In a narrow one the lamp's shape says it alone. */
@container (max-width: 90px) {
  .kind :deep(.state) {
    width: 12px;
    overflow: hidden;
  }
}
.kin:hover {
  border-color: var(--ink);
}
.kind {
  font-size: var(--t-xs);
  color: var(--soft);
  display: flex;
  justify-content: space-between;
}
b {
  font-size: var(--t-m);
  font-weight: 660;
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.fact {
  color: var(--soft);
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.here {
  border: 1.5px solid var(--ink);
  box-shadow: inset 0 4px 0 var(--slate);
}
.knot {
  width: 26px;
  flex: none;
  align-self: center;
}
.knot svg {
  width: 26px;
  height: 22px;
  display: block;
}
.knot path {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.5;
  stroke-linejoin: round;
}
</style>
