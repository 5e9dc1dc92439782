<script setup lang="ts">
import { ref, watch } from "vue";
import { useRoute } from "vue-router";
import { usePool } from "../../api/client";
import SettingsFields from "./SettingsFields.vue";

/** Other settings for a pool: begins with those it has. */
const params = defineModel<Record<string, unknown>>({ required: true });
const route = useRoute();
const name = String(route.query.pool ?? "");
const { data: page } = usePool(name);
const wish = ref<Record<string, number | string | null> | null>(null);
watch(
  page,
  (now) => (wish.value ??= now ? ({ ...now.params } as Record<string, number | string | null>) : null),
  { immediate: true },
);
watch(wish, (now) => now && (params.value = { ...now }), { immediate: true });
</script>

<template>
  <form v-if="wish" class="wish" @submit.prevent><SettingsFields v-model="wish" /></form>
  <p v-else class="small">Reading the settings of {{ name }} …</p>
</template>

<style scoped>
.wish {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 14px;
  padding-bottom: 8px;
  align-items: end;
}
</style>
