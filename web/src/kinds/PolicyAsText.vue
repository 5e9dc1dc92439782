<script setup lang="ts">
import { ref, watch } from "vue";
import { useReadPolicy, useWritePolicy, type PolicyWish } from "../api/client";
import ProblemNote from "../parts/ProblemNote.vue";

/** What is wished for as text: to be copied and kept, or pasted and taken into the fields. */
const props = defineProps<{ wish: PolicyWish }>();
const emit = defineEmits<{ read: [wish: PolicyWish] }>();
const text = ref("");
const copied = ref(false);
const write = useWritePolicy();
const read = useReadPolicy();
const touched = ref(false);
// It follows the fields until somebody types in it.
watch(
  () => props.wish,
  (wish) => {
    if (!touched.value) write.mutate(wish, { onSuccess: (found) => (text.value = found.text) });
  },
  { immediate: true },
);
function typed() {
  touched.value = true;
  copied.value = false;
}
function take() {
  read.mutate(text.value, {
    onSuccess: (wish) => {
      touched.value = false;
      emit("read", wish);
    },
  });
}
async function copy() {
  await navigator.clipboard.writeText(text.value);
  copied.value = true;
}
</script>

<template>
  <div class="as-text">
    <VTextarea v-model="text" label="The policy as text" rows="8" class="mono" @update:model-value="typed" />
    <div class="row">
      <VBtn class="chip" :disabled="!touched" @click="take">Take what it says</VBtn>
      <VBtn class="chip" @click="copy">{{ copied ? "Copied" : "Copy it" }}</VBtn>
    </div>
    <ProblemNote :error="read.error.value ?? write.error.value" />
  </div>
</template>

<style scoped>
.as-text {
  flex-basis: 100%;
}
.row {
  display: flex;
  gap: 8px;
  margin-top: 6px;
}
.mono :deep(textarea) {
  font-family: var(--mono);
}
</style>
