<script setup lang="ts">
import StateMark from "./StateMark.vue";

/** A stand-in machine: whether it has power, and what more can be done with it once it is unfolded. */
defineProps<{ name: string; power: boolean; words: string }>();
const open = defineModel<boolean>({ required: true });
defineEmits<{ power: [on: boolean] }>();
</script>

<template>
  <li>
    <div class="row">
      <StateMark :lamp="power ? 'sound' : 'away'" />
      <VBtn class="name" :aria-expanded="open" @click="open = !open">{{ name }}</VBtn>
      <span class="grow small">{{ words }}</span>
      <VBtn
        class="chip"
        :aria-label="power ? `Cut the power of ${name}` : `Give power to ${name}`"
        @click="$emit('power', !power)"
      >
        {{ power ? "Cut power" : "Give power" }}
      </VBtn>
    </div>
    <div v-if="open" class="inside"><slot /></div>
  </li>
</template>

<style scoped>
.row {
  display: flex;
  align-items: center;
  gap: 6px;
  padding: 4px 0;
  min-height: 30px;
}
li {
  border-bottom: 1px solid var(--rule);
}
.name {
  font-weight: 640;
  min-width: 76px;
}
.name:hover {
  text-decoration: underline;
}
.inside {
  padding: 0 0 6px 18px;
}
</style>
