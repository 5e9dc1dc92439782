<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useAsk, useChange, useSlowDown, type Lamp } from "../../api/client";
import { kindOf } from "../../kinds/kind";
import { CHANGE_LAMPS, CHANGE_WORDS } from "../../lib/changes";
import { everyEffect } from "../../lib/effects";
import { clock, percent, rate, size, span } from "../../lib/format";
import { pathOf } from "../../lib/paths";
import EffectsList from "../../parts/EffectsList.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import StateMark from "../../parts/StateMark.vue";

const props = defineProps<{ number: number }>();
const { data: change, error } = useChange(() => props.number);
const ask = useAsk();
const STEP: Record<string, Lamp> = { waiting: "away", running: "mending", done: "sound", failed: "failed" };
const share = computed(() =>
  change.value?.total_bytes ? change.value.done_bytes / change.value.total_bytes : 0,
);
const MOST_TOUCHED = 12;
const touched = computed(() => change.value?.touched.slice(0, MOST_TOUCHED) ?? []);
const thing = computed(() => kindOf(change.value?.kind)?.page(change.value!.about) ?? "/");
const back = computed(() => {
  const undo = change.value?.preview.undo as { kind: string; params: unknown } | null | undefined;
  return undo ? { query: { plan: undo.kind, "with-params": JSON.stringify(undo.params) } } : null;
});
const bottleneck = computed(() =>
  change.value ? everyEffect(change.value.preview, "moved")[0]?.bottleneck : "",
);
const slow = useSlowDown();
const capped = ref("");
watch(
  () => change.value?.rate_cap,
  (cap) => (capped.value = cap ? String(Math.round(cap / 1e6)) : ""),
  { immediate: true },
);
const setRate = () =>
  slow.mutate({
    number: props.number,
    rate: Number(capped.value) > 0 ? Math.round(Number(capped.value) * 1e6) : null,
  });
const open = computed(() => change.value && !["done", "withdrawn"].includes(change.value.state));
const took = (s: { started_at?: string | null; ended_at?: string | null }) =>
  s.started_at && s.ended_at
    ? `${((+new Date(s.ended_at) - +new Date(s.started_at)) / 1000).toFixed(1)} s`
    : "";
</script>

<template>
  <main class="page">
    <ProblemNote :error="error ?? ask.error.value ?? slow.error.value" />
    <template v-if="change">
      <div class="headline">
        <h1><StateMark :lamp="CHANGE_LAMPS[change.state]" /> {{ change.title }}</h1>
        <p>
          Change {{ change.number }}, {{ CHANGE_WORDS[change.state]
          }}{{ change.asked ? `, asked to ${change.asked}` : "" }}. By {{ change.actor
          }}{{ change.reason ? `: ${change.reason}` : "." }}
        </p>
        <span class="grow" />
        <template v-if="open">
          <form v-if="change.can_slow" class="slow" @submit.prevent="setRate">
            At most
            <VTextField
              v-model="capped"
              type="number"
              min="1"
              placeholder="no limit"
              aria-label="Most megabytes per second"
              width="100"
              @change="setRate"
            />
            MB/s
          </form>
          <VBtn
            v-if="change.state === 'running'"
            class="btn plain"
            :disabled="!!change.asked"
            @click="ask.mutate({ number, what: 'pause' })"
          >
            Pause
          </VBtn>
          <VBtn v-if="change.state === 'paused'" class="btn" @click="ask.mutate({ number, what: 'resume' })">
            Go on
          </VBtn>
          <VBtn
            class="btn plain"
            :disabled="change.asked === 'withdraw'"
            @click="ask.mutate({ number, what: 'withdraw' })"
          >
            Withdraw
          </VBtn>
        </template>
        <template v-else-if="change.state === 'done'">
          <RouterLink v-if="back" class="act" :to="back">Preview taking it back</RouterLink>
          <RouterLink class="act" :to="thing">Show {{ change.about }}</RouterLink>
        </template>
      </div>
      <p v-if="change.waits_for" class="soft" role="status">
        <StateMark lamp="away" /> Waits for
        <RouterLink class="act" :to="`/changes/${change.waits_for.number}`"
          >change {{ change.waits_for.number }}, {{ change.waits_for.title }}</RouterLink
        >, which touches the same things.
      </p>
      <div v-if="change.problem" class="problem" role="status">
        <StateMark :lamp="open ? 'short' : 'away'" />
        <span
          >{{ change.problem
          }}<template v-if="change.again_at">
            Fold Barn tries it again by itself at {{ clock(change.again_at) }}.</template
          ></span
        >
      </div>
      <div
        v-if="change.total_bytes"
        class="meter"
        role="progressbar"
        aria-label="Progress"
        :aria-valuenow="Math.round(share * 100)"
        aria-valuemin="0"
        aria-valuemax="100"
      >
        <i><u :style="{ width: `${share * 100}%` }" /></i>
        <p>
          <b>{{ percent(share) }}</b> {{ size(change.done_bytes) }} of {{ size(change.total_bytes) }}
          <template v-if="change.rate && change.state === 'running'"
            >at {{ rate(change.rate)
            }}<template v-if="change.seconds_left"
              >, about {{ span(change.seconds_left) }} left</template
            ></template
          >
        </p>
      </div>
      <div class="columns">
        <section aria-label="Steps">
          <div class="sec">
            <h2>Steps</h2>
            <span class="grow" /><span class="small"
              >{{ clock(change.started_at)
              }}{{ change.ended_at ? ` to ${clock(change.ended_at)}` : "" }}</span
            >
          </div>
          <ol :class="{ many: change.steps.length > 9 }">
            <li
              v-for="s in change.steps"
              :key="s.number"
              :data-step="s.about ? `${s.name}:${s.about}` : s.name"
              :data-state="s.state"
            >
              <span class="no">{{ s.number }}</span>
              <div>
                <b>{{ s.title }}</b>
                <p class="soft">{{ s.outcome || s.detail }}</p>
              </div>
              <span class="t"
                ><span><StateMark :lamp="STEP[s.state]!" /> {{ s.state }}</span
                ><span class="faint">{{ took(s) }}{{ s.attempt > 1 ? ` try ${s.attempt}` : "" }}</span></span
              >
            </li>
          </ol>
        </section>
        <section aria-label="What was foreseen">
          <div class="sec">
            <h2>What was foreseen</h2>
            <span class="small">from revision {{ change.preview.revision }}</span>
          </div>
          <p v-if="change.preview.summary">{{ change.preview.summary }}</p>
          <p v-if="change.preview.seconds" class="soft">
            About {{ span(change.preview.seconds) }} at the least, held up by {{ bottleneck }}.
          </p>
          <VTable v-if="change.moved_bytes || (change.preview.moves_bytes && !open)" class="plain compare"
            ><caption class="unseen">
              Foreseen and happened
            </caption>
            <thead>
              <tr>
                <td />
                <th class="n">Foreseen</th>
                <th class="n">Happened</th>
              </tr>
            </thead>
            <tbody>
              <tr>
                <td>Moved</td>
                <td class="n">{{ size(change.preview.moves_bytes) }}</td>
                <td class="n">{{ size(change.moved_bytes) }}</td>
              </tr>
              <tr>
                <td>Took, by the nodes' clocks</td>
                <td class="n">
                  {{ change.preview.seconds ? `at least ${span(change.preview.seconds)}` : "" }}
                </td>
                <td class="n">{{ change.work_seconds ? span(change.work_seconds) : "" }}</td>
              </tr>
              <!-- The bound is on the whole: what is quick goes first, so a part of it may be quicker. -->
              <tr v-if="change.work_seconds && !open">
                <td>Rate</td>
                <td class="n">
                  {{
                    change.preview.seconds
                      ? `at most ${rate(change.preview.moves_bytes / change.preview.seconds)}`
                      : ""
                  }}
                </td>
                <td class="n">{{ rate(change.moved_bytes / change.work_seconds) }}</td>
              </tr>
            </tbody>
          </VTable>
          <EffectsList :preview="change.preview" :without="['moved']" />
          <p v-for="w in change.preview.warnings" :key="w.sentence" class="note">
            <StateMark lamp="watch" /> <span>{{ w.sentence }}</span>
          </p>
          <template v-if="change.touched.length">
            <div class="sec">
              <h2>{{ open ? "What it touches" : "What it touched" }}</h2>
              <span class="small">what it has alone, others wait for</span>
            </div>
            <p v-for="(t, i) in touched" :key="i" class="touched">
              <RouterLink v-if="t.kind" :to="pathOf(t.kind, t.name)">{{ t.words }}</RouterLink>
              <template v-else>{{ t.words }}</template>
              <span class="soft">{{ t.alone ? " alone" : " with others" }}</span>
            </p>
            <p v-if="change.touched.length > touched.length" class="soft">
              and {{ change.touched.length - touched.length }} more.
            </p>
          </template>
          <template v-if="change.records.length">
            <div class="sec"><h2>What was asked of it</h2></div>
            <p v-for="r in change.records" :key="r.at">
              <span class="mono soft">{{ clock(r.at) }}</span> {{ r.what }}
              <span class="soft">{{ r.actor }}</span>
            </p>
          </template>
        </section>
      </div>
    </template>
    <p v-else-if="!error" class="empty">Reading change {{ number }} …</p>
  </main>
</template>

<style scoped>
.touched {
  margin: 2px 0;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1.3fr) minmax(0, 1fr);
  gap: 26px;
  padding-top: 8px;
}
li {
  display: grid;
  grid-template-columns: 22px 1fr 96px;
  gap: 6px;
  padding: 7px 0;
  border-top: 1px solid var(--rule);
  font-size: var(--t-s);
}
li:first-child {
  border-top: 1.5px solid var(--ink);
}
.many li {
  padding: 2px 0;
  grid-template-columns: 22px 1fr 130px;
}
.many li > div {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
.many .t {
  flex-direction: row;
  justify-content: end;
  gap: 10px;
}
.no {
  font: 600 13px/20px var(--mono);
  color: var(--soft);
}
li b {
  font-size: var(--t-m);
  font-weight: 640;
}
.t {
  display: flex;
  flex-direction: column;
  text-align: right;
}
.meter {
  padding: 4px 0 8px;
}
.meter i {
  display: block;
  height: 8px;
  background: var(--well);
  border: 1px solid var(--edge);
}
.meter u {
  display: block;
  height: 100%;
  background: var(--slate);
}
.meter p {
  font-size: var(--t-s);
  padding-top: 3px;
  color: var(--soft);
}
.meter b {
  color: var(--ink);
}
.slow {
  display: flex;
  align-items: center;
  gap: 6px;
  white-space: nowrap;
  font-size: var(--t-s);
  color: var(--soft);
}
.compare {
  margin: 6px 0;
}
section p {
  font-size: var(--t-s);
  padding-top: 4px;
}
</style>
