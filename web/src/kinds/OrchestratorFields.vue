<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { useConsumers } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** How an orchestrator is asked; of one that is known, as it is at first, but for its token. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const known = asked("orchestrator");
const { data } = useConsumers();
const old = computed(() => data.value?.orchestrators.find((o) => o.name === known));
const wish = reactive({ name: "", url: "", authority: "", token: "" });
const begun = ref(!known);
watch(
  old,
  (now) => {
    if (!now || begun.value) return;
    Object.assign(wish, { name: now.name, url: now.url, authority: now.authority });
    begun.value = true;
  },
  { immediate: true },
);
watch(
  [wish, begun],
  () => {
    if (begun.value) params.value = { ...wish, orchestrator: known };
  },
  { immediate: true },
);
</script>

<template>
  <p v-if="!begun" class="small">Reading what is known of {{ known }} …</p>
  <template v-else>
    <VTextField v-model="wish.name" label="Name of the orchestrator" v-first maxlength="63" width="180" />
    <VTextField
      v-model="wish.url"
      label="Address of its API"
      placeholder="https://10.0.0.5:6443"
      maxlength="500"
      width="270"
    />
    <VTextarea
      v-model="wish.authority"
      label="Certificate that its own goes back to, if it is not commonly trusted"
      placeholder="-----BEGIN CERTIFICATE-----"
      rows="3"
      width="430"
    />
    <VTextField
      v-model="wish.token"
      type="password"
      autocomplete="off"
      :label="known ? 'A new token, if it is to be another' : 'Token of its account'"
      width="300"
    />
  </template>
</template>
