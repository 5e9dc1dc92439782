<script setup lang="ts">
import { ref } from "vue";

/** A name that can be copied with one press. */
const props = defineProps<{ name: string }>();
const copied = ref(false);
async function copy() {
  await navigator.clipboard.writeText(props.name);
  copied.value = true;
  setTimeout(() => (copied.value = false), 1500);
}
</script>

<template>
  <VBtn class="copy" :aria-label="`Copy the name ${name}`" @click="copy">
    {{ copied ? "copied" : "copy" }}
  </VBtn>
</template>

<style scoped>
.copy {
  font: 500 11px/1 var(--mono);
  color: var(--faint);
  border: 1px solid var(--rule2);
  border-radius: 2px;
  padding: 2px 5px;
}
.copy:hover {
  color: var(--ink);
  border-color: var(--ink);
}
</style>
