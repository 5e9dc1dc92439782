<script setup lang="ts">
import { computed, ref } from "vue";
import { type AccessRule, useTryRules } from "../api/client";
import ProblemNote from "../parts/ProblemNote.vue";

/** Who may mount a share: a row each, or many as text; and a trial of them with an address. */
const rules = defineModel<AccessRule[]>({ required: true });
const FEW = 24;
const RIGHTS = [
  { title: "no access", value: "none" },
  { title: "read only", value: "read" },
  { title: "read and write", value: "read-write" },
] as const;
const asText = ref(rules.value.length > FEW);
const text = computed({
  get: () => rules.value.map((r) => `${r.who} ${r.right}${r.root ? " root" : ""}`).join("\n"),
  set: (typed: string) => {
    rules.value = typed
      .split("\n")
      .map((line) => line.trim())
      .filter(Boolean)
      .map((line) => {
        const root = / root$/.test(line);
        const found = /^(.*?)\s+(none|read-write|read)$/.exec(line.replace(/ root$/, ""));
        return {
          who: found?.[1] ?? line,
          right: (found?.[2] as AccessRule["right"] | undefined) ?? "read",
          root,
        };
      });
  },
});
const set = (place: number, part: Partial<AccessRule>) => {
  rules.value = rules.value.map((r, i) => (i === place ? { ...r, ...part } : r));
};
const add = () => (rules.value = [...rules.value, { who: "", right: "read", root: false }]);
const leave = (place: number) => (rules.value = rules.value.filter((_, i) => i !== place));
const address = ref("");
const trial = useTryRules();
const attempt = () => trial.mutate({ address: address.value, rules: rules.value });
</script>

<template>
  <fieldset class="rules">
    <legend class="small">
      Who may mount it. The rule that covers fewest addresses decides, wherever it stands.
      <VBtn class="act" @click="asText = !asText">{{ asText ? "As rows" : "As text" }}</VBtn>
    </legend>
    <VTextarea
      v-if="asText"
      v-model.lazy="text"
      label="A rule in each line: who, then none, read or read-write, then root where root stays root"
      rows="8"
      class="mono"
    />
    <template v-else>
      <div v-for="(r, i) in rules" :key="i" class="rule">
        <span class="place">{{ i + 1 }}</span>
        <VTextField
          :model-value="r.who"
          :aria-label="`Whom rule ${i + 1} covers`"
          placeholder="10.4.0.0/16, a range, or everyone"
          maxlength="100"
          width="270"
          @update:model-value="(who) => set(i, { who })"
        />
        <VSelect
          :model-value="r.right"
          :items="RIGHTS"
          :aria-label="`What rule ${i + 1} lets them do`"
          width="160"
          @update:model-value="(right) => set(i, { right })"
        />
        <VCheckbox
          :model-value="r.root ?? false"
          label="root stays root"
          :disabled="r.right === 'none'"
          @update:model-value="(root) => set(i, { root: Boolean(root) })"
        />
        <VBtn class="act" :aria-label="`Leave rule ${i + 1} out`" @click="leave(i)">Leave it out</VBtn>
      </div>
      <VBtn class="act" @click="add">Add a rule</VBtn>
    </template>
    <form class="try" @submit.prevent="attempt">
      <VTextField
        v-model="address"
        label="Try an address"
        placeholder="10.4.7.20"
        maxlength="100"
        width="200"
      />
      <VBtn type="submit" class="chip">Try</VBtn>
      <output v-if="trial.data.value && !trial.error.value" class="told"
        >from {{ trial.variables.value?.address }}: {{ trial.data.value.sentence }}</output
      >
      <ProblemNote :error="trial.error.value" />
    </form>
  </fieldset>
</template>

<style scoped>
.rules {
  border: 0;
  padding: 0;
  margin: 0;
  flex-basis: 100%;
  max-width: 860px;
}
.rules legend {
  padding: 0;
}
.rule,
.try {
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  gap: 6px 12px;
  padding: 3px 0;
}
.rule {
  align-items: center;
}
.place {
  width: 22px;
  text-align: right;
  font-family: var(--mono);
  color: var(--soft);
}
.told {
  padding-bottom: 5px;
  font-weight: 600;
}
</style>
