<script setup lang="ts">
import { computed } from "vue";
import type { Preview } from "../api/client";
import type { Effect } from "../lib/effects";
import { span } from "../lib/format";
import EffectsList from "./EffectsList.vue";
import StateMark from "./StateMark.vue";

/**
 * What a change does, in order, and what it does to you. waiting: said instead of blockers while nothing has
 * been filled in yet; a wish for what stands already says so in the same calm way. without: effects that the
 * page shows elsewhere.
 */
const props = defineProps<{ preview: Preview; waiting?: string; without?: Effect["effect"][] }>();
type Planned = Preview["steps"][number];
/** Steps for each of several things are told once, for the first of them. */
const steps = computed(() => {
  const found: (Planned & { more: number })[] = [];
  for (const step of props.preview.steps) {
    const last = found.at(-1);
    if (step.about && last?.name === step.name) last.more += 1;
    else found.push({ ...step, more: 0 });
  }
  return found;
});
const noWayBack = computed(() => props.preview.steps.some((s) => !s.can_withdraw));
// What a check says stands with the checks.
const blockers = computed(() => props.preview.blockers.filter((b) => !b.check));
const waits = computed(() => {
  const [only, ...others] = props.preview.blockers;
  return props.waiting ?? (only?.code === "unchanged" && !others.length ? only.sentence : undefined);
});
const warnings = computed(() => props.preview.warnings.filter((w) => !w.check));
</script>

<template>
  <div class="columns">
    <section aria-label="What happens, in order">
      <div class="sec"><h2>What happens, in order</h2></div>
      <ol v-if="steps.length">
        <li
          v-for="(step, i) in steps"
          :key="step.name + i"
          :class="{ noreturn: !step.can_withdraw && (i === 0 || steps[i - 1]!.can_withdraw) }"
        >
          <span class="no">{{ i + 1 }}</span>
          <div>
            <b>{{ step.title }}{{ step.more ? `, and so with ${step.more} more` : "" }}</b>
            <p class="soft">{{ step.detail }}</p>
          </div>
          <span class="t">{{ step.seconds ? `about ${span(step.seconds)}` : "" }}</span>
        </li>
      </ol>
      <p v-if="!steps.length" class="small">Nothing yet: as it stands it cannot be carried out.</p>
      <p v-else-if="noWayBack" class="small">
        It can be called off until the red line; after it there is no way back.
      </p>
      <p v-else class="small">
        It can be called off at every step; what it has done is then put back, or stays where it is safe.
      </p>
    </section>
    <section aria-label="What it does to you">
      <div class="sec"><h2>What it does to you</h2></div>
      <p v-if="waits" class="note soft">
        <StateMark lamp="away" /><span>{{ waits }}</span>
      </p>
      <template v-else>
        <p v-for="b in blockers" :key="b.sentence" class="note" data-note="blocker">
          <StateMark lamp="failed" />
          <span>
            <b>Blocker:</b> {{ b.sentence }} <span class="soft">{{ b.next_step }}</span>
          </span>
        </p>
      </template>
      <EffectsList :preview="preview" :without="without" />
      <p v-for="w in warnings" :key="w.sentence" class="note" data-note="warning">
        <StateMark lamp="watch" />
        <span>
          <b>Warning:</b> {{ w.sentence }} <span class="soft">{{ w.next_step }}</span>
        </span>
      </p>
      <p v-if="!preview.blockers.length" class="note">
        <StateMark lamp="sound" />
        <span><b>Blockers:</b> none.</span>
      </p>
    </section>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.15fr);
  gap: 26px;
  padding: 8px 0;
}
li {
  display: grid;
  grid-template-columns: 22px 1fr 90px;
  gap: 6px;
  padding: 5px 0;
  border-top: 1px solid var(--rule);
  font-size: var(--t-s);
}
li:first-child {
  border-top: 1.5px solid var(--ink);
}
li.noreturn {
  border-top: 2px solid var(--barn);
}
.no {
  font: 600 13px/18px var(--mono);
  color: var(--soft);
}
li b {
  font-size: var(--t-m);
  font-weight: 640;
}
.t {
  text-align: right;
  font-weight: 560;
}
</style>
