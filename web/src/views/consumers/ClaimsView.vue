<script setup lang="ts">
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useClaims, useConsumers, type Life } from "../../api/client";
import { count } from "../../lib/format";
import ProblemNote from "../../parts/ProblemNote.vue";
import ClaimRows from "./ClaimRows.vue";
import ConsumerTabs from "./ConsumerTabs.vue";
import ThreadsDrawing from "./ThreadsDrawing.vue";

/** What containers ask for, and what became of it. What is asked of the list stands in the address. */
const PER = 100;
const FEW = 12; // of so many there is room for a drawing of whom they are
const route = useRoute();
const router = useRouter();
const word = (name: string) => {
  const found = route.query[name];
  return typeof found === "string" ? found : "";
};
const set = (name: string, value: string | null) =>
  void router.replace({ query: { ...route.query, page: undefined, [name]: value || undefined } });
const page = computed(() => Number(word("page")) || 1);
const { data: consumers } = useConsumers();
const { data, error } = useClaims(() => ({
  words: word("words"),
  orchestrator: word("orchestrator"),
  ...(word("life") ? { life: [word("life") as Life] } : {}),
  page: page.value,
  per: PER,
}));
const several = computed(() => (consumers.value?.orchestrators.length ?? 0) > 1);
const lives = computed(() => consumers.value?.lives.filter((l) => l.count) ?? []);
const narrowed = computed(() => Boolean(word("words") || word("life") || word("orchestrator")));
const turn = (by: number) => void router.push({ query: { ...route.query, page: String(page.value + by) } });
</script>

<template>
  <main class="page">
    <div class="headline">
      <h1>Claims</h1>
      <ConsumerTabs />
      <p v-if="data">
        {{
          narrowed
            ? `${data.matching.toLocaleString("en")} of ${count(data.kept, "claim")}`
            : count(data.kept, "claim")
        }}.
      </p>
      <span class="grow" />
      <RouterLink
        v-if="consumers?.orchestrators.length"
        class="btn"
        :to="{ query: { ...route.query, plan: 'grant-policy' } }"
        >Grant a policy</RouterLink
      >
    </div>
    <ProblemNote :error="error" />
    <div v-if="data?.kept || narrowed" class="asking">
      <VTextField
        :model-value="word('words')"
        label="Namespace, name or class"
        width="220"
        clearable
        maxlength="200"
        @update:model-value="(v) => set('words', v)"
      />
      <div role="group" aria-label="What became of them" class="lives">
        <VBtn
          v-for="l in lives"
          :key="l.life"
          class="chip"
          :aria-pressed="word('life') === l.life"
          @click="set('life', word('life') === l.life ? '' : l.life)"
          >{{ l.life }} {{ l.count.toLocaleString("en") }}</VBtn
        >
      </div>
    </div>
    <ClaimRows v-if="data?.claims.length" :claims="data.claims" :several="several" />
    <p v-else-if="data && narrowed" class="empty">
      No claim is like that.
      <RouterLink class="act" :to="{ query: {} }">Show all</RouterLink>
    </p>
    <p v-else-if="data && consumers && !consumers.orchestrators.length" class="empty">
      No orchestrator is connected yet.
      <RouterLink class="act" data-offered to="/consumers/orchestrators">Connect one</RouterLink>; then grant
      its namespaces a policy, and publish that as a class.
    </p>
    <p v-else-if="data && consumers" class="empty">
      No claim yet: {{ count(consumers.classes.length, "class", "classes") }} published,
      {{
        count(
          consumers.namespaces.reduce((n, s) => n + s.grants.length, 0),
          "grant",
        )
      }}
      given. A claim that names a class shows here as soon as it is made.
    </p>
    <ThreadsDrawing
      v-if="data && data.claims.length <= FEW && !narrowed && consumers?.threads.length"
      :threads="consumers.threads"
    />
    <p v-if="data && data.pages > 1" class="pages">
      <VBtn class="act" :disabled="data.page <= 1" @click="turn(-1)">Before</VBtn>
      <span class="small">page {{ data.page }} of {{ data.pages }}</span>
      <VBtn class="act" :disabled="data.page >= data.pages" @click="turn(1)">After</VBtn>
    </p>
  </main>
</template>

<style scoped>
.asking {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 6px 16px;
  padding-bottom: 10px;
}
.lives {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
}
.pages {
  display: flex;
  align-items: center;
  gap: 14px;
  padding-top: 10px;
}
</style>
