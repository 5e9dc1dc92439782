<script setup lang="ts">
import { computed, reactive, ref, watch } from "vue";
import { useHost } from "../api/client";
import { useSheet, type Wish } from "./kind";

/** By what a host is asked what it runs; of one that is connected, as it is at first, but for its password. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const host = asked("host");
const { data } = useHost(host);
const wish = reactive({ url: "", user: "", password: "" });
const known = computed(() => data.value?.runs ?? null);
const begun = ref(false);
watch(
  data,
  (now) => {
    if (!now || begun.value) return;
    if (now.runs) Object.assign(wish, { url: now.runs.url, user: now.runs.user });
    begun.value = true;
  },
  { immediate: true },
);
watch(
  [wish, begun],
  () => {
    if (begun.value) params.value = { ...wish, host };
  },
  { immediate: true },
);
</script>

<template>
  <p v-if="!begun" class="small">Reading what is known of {{ host }} …</p>
  <template v-else>
    <VTextField
      v-model="wish.url"
      label="Address of its Redfish service"
      placeholder="https://10.10.0.40"
      v-first
      maxlength="500"
      width="300"
    />
    <VTextField v-model="wish.user" label="Account" autocomplete="off" maxlength="200" width="160" />
    <VTextField
      v-model="wish.password"
      type="password"
      autocomplete="off"
      maxlength="200"
      :label="known ? 'A new password, if it is to be another' : 'Its password'"
      width="280"
    />
  </template>
</template>
