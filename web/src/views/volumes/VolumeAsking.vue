<script setup lang="ts">
import { computed, ref, watch } from "vue";
import type { AskedVolumes } from "../../api/client";
import { otherwise } from "../../lib/asked";

/** What is asked of the list: words of the name, questions with how many would be left, and what volumes
 * depend on. */
const asked = defineModel<AskedVolumes>({ required: true });
const props = defineProps<{ answers: { question: string; count: number }[] }>();
const SETTLE = 200; // ms without a key press before the list is asked for
const words = ref(asked.value.words ?? "");
let timer: ReturnType<typeof setTimeout> | undefined;
watch(words, (now) => {
  clearTimeout(timer);
  timer = setTimeout(() => {
    if (now.trim() !== asked.value.words) asked.value = otherwise(asked.value, { words: now.trim() });
  }, SETTLE);
});
watch(
  () => asked.value.words,
  (now) => {
    if (now !== words.value.trim()) words.value = now ?? "";
  },
);
const chosen = computed(() => new Set<string>(asked.value.is));
/** Those that would leave something, and those that are asked. */
const shown = computed(() => props.answers.filter((a) => a.count || chosen.value.has(a.question)));
function toggle(question: string) {
  const is = chosen.value.has(question)
    ? [...chosen.value].filter((one) => one !== question)
    : [...chosen.value, question];
  asked.value = otherwise(asked.value, { is: is as AskedVolumes["is"] });
}
const without = (thing: string) =>
  (asked.value = otherwise(asked.value, { of: asked.value.of?.filter((one) => one !== thing) }));
const said = (thing: string) => thing.replace(":", " ");
</script>

<template>
  <div class="asking" role="search" aria-label="Which volumes">
    <VTextField
      v-model="words"
      aria-label="Words of the name or a label"
      placeholder="Name or label"
      clearable
      width="190"
      @click:clear="words = ''"
    />
    <VBtn
      v-for="thing in asked.of"
      :key="thing"
      class="chip"
      aria-pressed="true"
      :aria-label="`Only of ${said(thing)}; press for all`"
      @click="without(thing)"
      >of {{ said(thing) }} <span aria-hidden="true">&nbsp;×</span></VBtn
    >
    <VBtn
      v-for="a in shown"
      :key="a.question"
      class="chip"
      :data-question="a.question"
      :aria-pressed="chosen.has(a.question)"
      @click="toggle(a.question)"
      >{{ a.question }} <span class="count">{{ a.count.toLocaleString("en") }}</span></VBtn
    >
  </div>
</template>

<style scoped>
.asking {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px;
  padding-bottom: 8px;
}
.asking :deep(.v-input) {
  flex: none;
  margin-right: 6px;
}
.count {
  font-family: var(--mono);
  margin-left: 5px;
}
</style>
