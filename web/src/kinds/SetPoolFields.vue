<script setup lang="ts">
import { computed, watch } from "vue";
import { usePool } from "../api/client";
import { useSheet, type Settings, type Wish } from "./kind";
import SettingsFields from "./SettingsFields.vue";

/** Other settings for a pool: begins with those it has. */
const wish = defineModel<Wish>({ required: true });
const name = useSheet().asked("pool");
const { data: page } = usePool(name);
const begun = computed(() => Object.keys(wish.value).length > 0);
watch(
  page,
  (now) => {
    if (now && !begun.value) wish.value = { ...now.params };
  },
  { immediate: true },
);
</script>

<template>
  <SettingsFields v-if="begun" v-model="wish as Settings" />
  <p v-else class="small">Reading the settings of {{ name }} …</p>
</template>
