<script setup lang="ts">
import { ref, watch } from "vue";
import { useSheet, type Wish } from "./kind";

/** Who signs in to a share by SMB, and what they may do there. */
const params = defineModel<Wish>({ required: true });
const { asked } = useSheet();
const RIGHTS = [
  { title: "read only", value: "read" },
  { title: "read and write", value: "read-write" },
];
const user = ref(asked("user"));
const right = ref("read-write");
watch([user, right], () => (params.value = { share: asked("share"), user: user.value, right: right.value }), {
  immediate: true,
});
</script>

<template>
  <VTextField
    v-model="user"
    label="Who signs in"
    v-first
    autocomplete="off"
    maxlength="64"
    :readonly="Boolean(asked('user'))"
    width="200"
  />
  <VSelect v-model="right" :items="RIGHTS" label="May" width="170" />
</template>
