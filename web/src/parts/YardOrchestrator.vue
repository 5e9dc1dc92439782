<script setup lang="ts">
import { ref } from "vue";
import { usePull, type Yard } from "../api/client";
import CopyName from "./CopyName.vue";
import ProblemNote from "./ProblemNote.vue";

/** The stand-in orchestrator, as those who run it have it: by what it is reached, and what is done there. */
const props = defineProps<{ one: Yard["orchestrators"][number] }>();
const pull = usePull();
const manifests = ref("");
const thing = ref("");
const printed = ref("");
function deed(lever: "apply" | "remove", text: string) {
  printed.value = "";
  pull.mutate({ lever, what: props.one.name, text }, { onSuccess: (yard) => (printed.value = yard.printed) });
}
</script>

<template>
  <div>
    <p class="small ways">
      <b>{{ one.name }}</b>
      <span>its address <CopyName :name="one.url" /></span>
      <span>its certificate <CopyName :name="one.authority" /></span>
      <span v-if="one.token">the token of Fold Barn's account <CopyName :name="one.token" /></span>
      <span v-else>no account for Fold Barn yet: apply its manifests</span>
    </p>
    <form @submit.prevent="deed('apply', manifests)">
      <VTextarea
        v-model="manifests"
        :label="`Manifests to apply in ${one.name}`"
        rows="4"
        maxlength="100000"
      />
      <VBtn type="submit" class="chip" :disabled="!manifests.trim()">Apply</VBtn>
    </form>
    <form @submit.prevent="deed('remove', thing)">
      <VTextField
        v-model="thing"
        :label="`A thing to remove from ${one.name}`"
        placeholder="PersistentVolumeClaim namespace/name"
        maxlength="400"
      />
      <VBtn type="submit" class="chip" :disabled="!thing.trim()">Remove</VBtn>
    </form>
    <ProblemNote :error="pull.error.value" />
    <p v-if="printed" class="small told" role="status">{{ printed }}</p>
  </div>
</template>

<style scoped>
.ways {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
form {
  display: grid;
  gap: 4px;
  justify-items: start;
  padding-top: 6px;
}
form > :first-child {
  width: 100%;
}
.told {
  white-space: pre-line;
}
</style>
