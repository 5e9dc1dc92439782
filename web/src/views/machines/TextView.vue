<script setup lang="ts">
import { computed, ref, watch } from "vue";
import { useText } from "../../api/client";
import { keepAsFile } from "../../lib/files";
import { usePlan } from "../../lib/plan";
import PreviewEffects from "../../parts/PreviewEffects.vue";
import FilePick from "../../parts/FilePick.vue";
import ProblemNote from "../../parts/ProblemNote.vue";
import TextEditor from "../../parts/TextEditor.vue";
import MachineTabs from "./MachineTabs.vue";

/**
 * The site as text: as it stands, or as it was last entered; edited here, compared with what the machines
 * say, and taken.
 */
const { data, error } = useText();
const text = ref("");
const source = ref<"now" | "entered">("now");
const touched = ref(false);
watch(
  [data, source],
  () => {
    if (data.value && !touched.value)
      text.value = source.value === "entered" ? data.value.taken : data.value.text;
  },
  { immediate: true },
);
const params = computed(() => ({ text: text.value }));
const kind = ref("describe");
const plan = usePlan(kind, params, () => text.value.trim().length > 0);
const marks = computed(() =>
  (plan.preview.value?.blockers ?? []).flatMap((b) =>
    b.about?.startsWith("line ")
      ? [{ line: Number(b.about.slice(5)), sentence: b.sentence.replace(/^Line \d+: /, "") }]
      : [],
  ),
);
function show(which: "now" | "entered") {
  touched.value = false;
  source.value = which;
  text.value = (which === "entered" ? data.value?.taken : data.value?.text) ?? "";
}
function edit(now: string) {
  touched.value = true;
  text.value = now;
}
const save = () => keepAsFile("site.yaml", text.value, "application/yaml");
// The text as it stands says what is known already: there is nothing in it to take.
const nothing = computed(() => source.value === "now" && !touched.value);
const load = async ([file]: File[]) => edit(await file!.text());
</script>

<template>
  <main class="page text">
    <div class="headline">
      <h1>Machines</h1>
      <MachineTabs /><span class="grow" />
      <span class="lens" role="group" aria-label="Text">
        <VBtn :aria-pressed="source === 'now' && !touched" @click="show('now')"> As it stands </VBtn>
        <VBtn
          :disabled="!data?.taken"
          :aria-pressed="source === 'entered' && !touched"
          @click="show('entered')"
        >
          As last entered
        </VBtn>
      </span>
      <FilePick label="Load a file" name="Load a text" accept=".yaml,.yml,text/plain" @pick="load" />
      <VBtn class="act" @click="save">Save as a file</VBtn>
      <VBtn class="btn" data-offered :disabled="plan.blocked.value || nothing" @click="plan.carryOut">
        Carry out
      </VBtn>
    </div>
    <ProblemNote :error="error ?? plan.error.value" />
    <div class="two">
      <TextEditor :model-value="text" :marks="marks" label="The site as text" @update:model-value="edit" />
      <div class="effects">
        <p class="small">{{ plan.preview.value?.summary }}</p>
        <PreviewEffects v-if="plan.preview.value" :preview="plan.preview.value" />
      </div>
    </div>
  </main>
</template>

<style scoped>
.text {
  display: flex;
  flex-direction: column;
  overflow: hidden;
}
.two {
  display: grid;
  grid-template-columns: minmax(0, 1.1fr) minmax(0, 1fr);
  gap: 26px;
  flex: 1;
  min-height: 0;
}
.effects {
  overflow: auto;
  min-height: 0;
}
.effects :deep(.columns) {
  grid-template-columns: minmax(0, 1fr);
}
</style>
