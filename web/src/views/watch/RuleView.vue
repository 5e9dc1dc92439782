<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import {
  useBarn,
  useConsumers,
  useDeleteRule,
  useMetrics,
  useRoutesOfWord,
  useRules,
  useSaveRule,
  useTrial,
  type WatchRule,
} from "../../api/client";
import { count, say, span } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import RuleCurve from "./RuleCurve.vue";
import { meant, said, typed, TYPED } from "./words";

/** A watch rule as one sentence with choices, tried on what happened while it is written. */
const props = defineProps<{ rule: string }>();
const router = useRouter();
const route = useRoute();
const isNew = computed(() => props.rule === "new");
const { data: rules, error } = useRules();
const metrics = useMetrics();
const { data: told } = useRoutesOfWord();
const { data: barn } = useBarn();
const { data: consumers } = useConsumers();
const save = useSaveRule();
const away = useDeleteRule();

type Of = WatchRule["of"];
const asked = (name: string) => {
  const value = route.query[name];
  return typeof value === "string" ? value : "";
};
const KINDS: Of[] = ["volume", "pool", "disk", "node", "port"];
const form = reactive({
  name: "",
  of: (KINDS.find((k) => k === asked("of")) ?? "volume") as Of,
  metric: (asked("metric") || "late_time") as WatchRule["metric"],
  limited: true,
  way: "above" as "above" | "below",
  limit: "",
  clear: "",
  hold: "180",
  which: asked("name") ? "names" : "all",
  names: asked("name"),
  absent: "",
  severity: "notice" as WatchRule["severity"],
  route: 0,
  from: "",
  to: "",
  on: true,
});
const begun = ref(false);
const sure = ref(false); // that it is to be deleted
const clockOf = (minutes: number) =>
  `${String(Math.floor(minutes / 60)).padStart(2, "0")}:${String(minutes % 60).padStart(2, "0")}`;
/** The level at which it is over goes with the limit, in proportion, so that it stays on the right side. */
const PARTS = { above: 0.8, below: 1.25 };
const part = ref(PARTS.above);
const offered = computed(() => metrics.value.filter((m) => m.of.includes(form.of)));
const metric = computed(() => metrics.value.find((m) => m.metric === form.metric));
const unit = computed(() => metric.value?.unit ?? "seconds");

/** What there is, once it has come; what is typed since is not taken away. */
watch(
  [rules, metric],
  () => {
    if (begun.value || !rules.value || !metric.value) return;
    const there = rules.value.rules.find((r) => String(r.number) === props.rule)?.wish;
    if (!isNew.value && !there) return;
    begun.value = true;
    if (there) take(there);
    else suggest();
  },
  { immediate: true },
);
function take(wish: WatchRule) {
  const known = metrics.value.find((m) => m.metric === wish.metric);
  const bounds = wish.bounds;
  Object.assign(form, {
    name: wish.name,
    of: wish.of,
    metric: wish.metric,
    limited: Boolean(bounds),
    way: bounds?.way ?? "above",
    limit: bounds && known ? typed(known.unit, bounds.limit) : "",
    clear: bounds && known ? typed(known.unit, bounds.clear) : "",
    hold: String(bounds?.hold ?? 0),
    which: wish.names.length
      ? "names"
      : wish.pool
        ? `pool ${wish.pool}`
        : wish.namespace
          ? `namespace ${wish.namespace}`
          : "all",
    names: wish.names.join(", "),
    absent: wish.absent == null ? "" : String(wish.absent),
    severity: wish.severity,
    route: wish.route ?? 0,
    from: wish.quiet ? clockOf(wish.quiet.begins) : "",
    to: wish.quiet ? clockOf(wish.quiet.ends) : "",
    on: wish.on,
  });
  if (bounds?.limit) part.value = bounds.clear / bounds.limit;
}
function limitTo(text: string) {
  form.limit = text;
  const value = meant(unit.value, text);
  if (Number.isFinite(value)) form.clear = typed(unit.value, Number((value * part.value).toPrecision(3)));
}
function clearTo(text: string) {
  form.clear = text;
  const [clear, limit] = [meant(unit.value, text), meant(unit.value, form.limit)];
  if (limit > 0 && Number.isFinite(clear)) part.value = clear / limit;
}
function toSide(way: "above" | "below") {
  form.way = way;
  part.value = PARTS[way];
  limitTo(form.limit);
}
/** A limit to begin with. */
function suggest() {
  if (metric.value) limitTo(typed(unit.value, metric.value.usual));
}
const minutesOf = (text: string) => {
  const [, hours, minutes] = /^(\d{1,2}):(\d{2})$/.exec(text.trim()) ?? [];
  return hours === undefined ? NaN : Number(hours) * 60 + Number(minutes);
};
function ofKind(kind: Of) {
  form.of = kind;
  form.which = "all";
  if (!offered.value.some((m) => m.metric === form.metric)) form.metric = offered.value[0]!.metric;
  suggest();
}
function ofMetric(metric: WatchRule["metric"]) {
  form.metric = metric;
  suggest();
}

const which = computed(() => [
  { title: `any ${form.of}`, value: "all" },
  ...(form.of === "volume" || form.of === "disk"
    ? (barn.value?.pools ?? []).map((p) => ({
        title: `any ${form.of} of ${p.name}`,
        value: `pool ${p.name}`,
      }))
    : []),
  ...(form.of === "volume"
    ? [...new Set((consumers.value?.namespaces ?? []).map((n) => n.name))].map((n) => ({
        title: `any volume of ${n}`,
        value: `namespace ${n}`,
      }))
    : []),
  { title: "those named", value: "names" },
]);
const wish = computed<WatchRule>(() => {
  const [kind, ...rest] = form.which.split(" ");
  const begins = minutesOf(form.from);
  const ends = minutesOf(form.to);
  return {
    name: form.name.trim() || "A rule that is being written",
    of: form.of,
    metric: form.metric,
    bounds: form.limited
      ? {
          way: form.way,
          limit: meant(unit.value, form.limit || "0") || 0,
          clear: meant(unit.value, form.clear || "0") || 0,
          hold: Number(form.hold) || 0,
        }
      : null,
    names: kind === "names" ? form.names.split(",").flatMap((n) => n.trim() || []) : [],
    pool: kind === "pool" ? rest.join(" ") : "",
    namespace: kind === "namespace" ? rest.join(" ") : "",
    absent: form.absent.trim() ? Number(form.absent) || 0 : null,
    severity: form.severity,
    quiet: Number.isNaN(begins) || Number.isNaN(ends) ? null : { begins, ends },
    route: form.route || null,
    on: form.on,
  };
});
const OVERS = ["hour", "day", "week"] as const;
const over = computed(() => OVERS.find((o) => o === route.query.over) ?? "hour");
const look = (o: string) => router.replace({ query: { ...route.query, over: o === "hour" ? undefined : o } });
const trial = useTrial(
  () => ({ rule: wish.value, over: over.value }),
  () => begun.value,
);
const failure = computed(() => error.value ?? save.error.value ?? away.error.value);
const keep = () =>
  save.mutate(
    { number: isNew.value ? 0 : Number(props.rule), wish: { ...wish.value, name: form.name.trim() } },
    { onSuccess: () => router.push("/watch/rules") },
  );
const routes = computed(() => [
  { title: "the usual route", value: 0 },
  ...(told.value?.routes ?? []).map((r) => ({ title: r.wish.name, value: r.number })),
]);
const few = (names: string[]) =>
  say(names.length > 3 ? [...names.slice(0, 2), `${names.length - 2} more`] : names);
const drag = (value: number) => limitTo(typed(unit.value, value));
</script>

<template>
  <main class="page">
    <ProblemNote :error="failure" />
    <p v-if="rules && !isNew && !begun" class="empty">
      There is no such rule. <RouterLink class="act" to="/watch/rules">All rules</RouterLink>
    </p>
    <template v-else-if="begun">
      <div class="headline">
        <h1>{{ isNew ? "Write a rule" : form.name }}</h1>
        <p>It is tried on what happened before it is kept. Nothing is sent yet.</p>
        <span class="grow" />
        <VBtn v-if="!isNew && !sure" class="act" @click="sure = true">Delete it, with what it found</VBtn>
        <VBtn
          v-else-if="!isNew"
          class="act"
          @click="away.mutate(Number(rule), { onSuccess: () => router.push('/watch/rules') })"
          >Press once more: there is no way back</VBtn
        >
        <VBtn class="btn" :disabled="!form.name.trim()" @click="keep">Keep it</VBtn>
      </div>
      <form class="rule" aria-label="The rule" @submit.prevent="keep">
        <span>The rule</span>
        <VTextField
          v-model="form.name"
          v-first
          aria-label="Name of the rule"
          placeholder="its name"
          width="240"
        />
        <span>looks at</span>
        <VSelect
          :model-value="form.of"
          aria-label="Kind of thing"
          :items="KINDS.map((k) => ({ title: `${k}s`, value: k }))"
          width="120"
          @update:model-value="ofKind"
        />
        <span>, of them</span>
        <VSelect v-model="form.which" aria-label="Which of them" :items="which" width="230" />
        <VTextField
          v-if="form.which === 'names'"
          v-model="form.names"
          aria-label="Names, with commas between"
          placeholder="names, with commas between"
          width="260"
        />
        <span>. When</span>
        <VSelect
          :model-value="form.metric"
          aria-label="What of it"
          :items="offered.map((m) => ({ title: m.words, value: m.metric }))"
          width="380"
          @update:model-value="ofMetric"
        />
        <template v-if="form.limited">
          <span>is</span>
          <VSelect
            :model-value="form.way"
            aria-label="Which side"
            :items="['above', 'below']"
            width="105"
            @update:model-value="toSide"
          />
          <VTextField
            :model-value="form.limit"
            inputmode="decimal"
            aria-label="Limit"
            :suffix="TYPED[unit][1]"
            width="150"
            @update:model-value="limitTo"
          />
          <span>for</span>
          <VTextField
            v-model="form.hold"
            inputmode="numeric"
            aria-label="Seconds that it must hold"
            suffix="s"
            width="90"
          />
          <span>, it is told; over at</span>
          <VTextField
            :model-value="form.clear"
            inputmode="decimal"
            aria-label="Level at which it is over"
            :suffix="TYPED[unit][1]"
            width="150"
            @update:model-value="clearTo"
          />
          <VBtn class="act" @click="form.limited = false">No limit</VBtn>
        </template>
        <VBtn v-else class="act" @click="form.limited = true">Set a limit</VBtn>
        <span>Where nothing is heard, say so after</span>
        <VTextField
          v-model="form.absent"
          inputmode="numeric"
          aria-label="Seconds without word"
          placeholder="never"
          suffix="s"
          width="105"
        />
        <span>. Tell</span>
        <VSelect v-model="form.route" aria-label="Whom to tell" :items="routes" width="180" />
        <span>that it is</span>
        <VSelect
          v-model="form.severity"
          aria-label="How much it matters"
          :items="[
            { title: 'a notice', value: 'notice' },
            { title: 'urgent', value: 'urgent' },
          ]"
          width="120"
        />
        <span>, but not from</span>
        <VTextField v-model="form.from" aria-label="Quiet from, UTC" placeholder="22:00" width="80" />
        <span>to</span>
        <VTextField v-model="form.to" aria-label="Quiet until, UTC" placeholder="06:00" width="80" />
        <span>UTC.</span>
      </form>
      <ProblemNote :error="trial.error.value" />
      <template v-if="trial.data.value">
        <div class="sec next">
          <h2>As it would have gone</h2>
          <span class="small"
            >{{ trial.data.value.drawn || "Nothing is looked at" }}, of
            {{ count(trial.data.value.covers, form.of)
            }}{{
              trial.data.value.tried < trial.data.value.covers
                ? ` (tried on the ${trial.data.value.tried} that are furthest out now)`
                : ""
            }}. Drag the line to try another limit.</span
          >
          <span class="grow" />
          <nav class="lens" aria-label="Over how long">
            <VBtn v-for="o in OVERS" :key="o" :aria-pressed="o === over" @click="look(o)">{{ o }}</VBtn>
          </nav>
        </div>
        <div class="tried">
          <RuleCurve :trial="trial.data.value" :bounds="wish.bounds ?? null" @limit="drag" />
          <div class="verdict" aria-live="polite">
            <p>
              <b>{{
                trial.data.value.told
                  ? `It would have told ${count(trial.data.value.told, "time")}`
                  : "It would have told of nothing"
              }}</b>
            </p>
            <p v-if="trial.data.value.held_back">
              and held back {{ count(trial.data.value.held_back, "short breach", "short breaches") }}.
            </p>
            <p v-for="o in trial.data.value.others" :key="o.limit">
              At {{ o.words }}: {{ count(o.told, "time") }}.
            </p>
            <p v-if="trial.data.value.gaps.length" class="soft">
              For {{ count(trial.data.value.gaps.length, "stretch", "stretches") }} nobody knows.
            </p>
            <p v-if="over !== 'hour'" class="soft">
              By averages over {{ span(trial.data.value.seconds) }}: what lasted for less does not show.
            </p>
          </div>
        </div>
        <div class="halves">
          <section aria-label="What it looks at">
            <div class="sec next"><h2>What it looks at</h2></div>
            <VTable v-if="trial.data.value.things.length" class="plain">
              <thead>
                <tr>
                  <th>Thing</th>
                  <th>Used by</th>
                  <th>Carried by</th>
                  <th class="n">Worst</th>
                  <th class="n">Told</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="t in trial.data.value.things" :key="t.name">
                  <td class="name">{{ t.name }}</td>
                  <td class="soft">{{ few(t.consumers) || "nobody" }}</td>
                  <td class="soft">{{ few(t.carriers) || "nothing else" }}</td>
                  <td class="n nowrap">{{ t.worst === null ? "" : said(unit, t.worst) }}</td>
                  <td class="n">{{ t.told }}</td>
                </tr>
              </tbody>
            </VTable>
            <p v-else class="empty">There is nothing that it would look at.</p>
          </section>
          <section aria-label="The message">
            <div class="sec next">
              <h2>The message</h2>
              <span class="small">the last that would have been sent, with its curve</span>
            </div>
            <div v-if="trial.data.value.subject" class="message">
              <p>
                <b>{{ trial.data.value.subject }}</b>
              </p>
              <pre>{{ trial.data.value.text }}</pre>
            </div>
            <p v-else class="empty">None: nothing would have been sent.</p>
          </section>
        </div>
      </template>
    </template>
    <p v-else-if="!error" class="empty">Reading the rules …</p>
  </main>
</template>

<style scoped>
.rule {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 7px;
  font-size: var(--t-l);
  padding: 4px 0 8px;
}
.rule > * {
  flex: none;
  max-width: 100%;
}
.tried {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 220px;
  gap: 20px;
  padding-top: 10px;
}
.verdict p {
  padding-bottom: 4px;
}
.verdict b {
  font-size: var(--t-l);
}
.halves {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 26px;
}
.next {
  padding-top: 12px;
}
.name {
  overflow-wrap: anywhere;
}
.nowrap {
  white-space: nowrap;
}
.message {
  background: var(--well);
  padding: 8px 12px;
}
pre {
  font: 430 13px/1.45 var(--sans, inherit);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  margin: 4px 0 0;
}
@media (max-width: 1000px) {
  .tried,
  .halves {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
