<script setup lang="ts">
/** Choosing among names: each one pressed or not. */
defineProps<{ label: string; names: string[] }>();
const chosen = defineModel<string[]>({ required: true });
function toggle(name: string) {
  chosen.value = chosen.value.includes(name)
    ? chosen.value.filter((n) => n !== name)
    : [...chosen.value, name];
}
</script>

<template>
  <div class="field" role="group" :aria-label="label">
    {{ label
    }}<span class="chips">
      <VBtn v-for="n in names" :key="n" class="chip" :aria-pressed="chosen.includes(n)" @click="toggle(n)">{{
        n
      }}</VBtn>
    </span>
  </div>
</template>

<style scoped>
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  max-height: 86px;
  overflow: auto;
}
</style>
