<script setup lang="ts">
/** What is shown once: it closes by its button or Esc alone, and whoever opened it forgets it then. */
const { title, label, width = 480 } = defineProps<{ title?: string; label: string; width?: number }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ closed: [] }>();
function close() {
  open.value = false;
  emit("closed");
}
</script>

<template>
  <VDialog
    v-model="open"
    persistent
    :aria-label="label"
    :width="width"
    transition="none"
    @keydown.esc="close"
  >
    <section v-if="title" class="sheet">
      <h2>{{ title }}</h2>
      <slot />
      <div class="ends">
        <slot name="deeds" />
        <VBtn class="act" @click="close">Close, and show it to nobody again</VBtn>
      </div>
    </section>
  </VDialog>
</template>

<style scoped>
.sheet {
  background: var(--sheet);
  color: var(--ink);
  border: 1px solid var(--ink);
  padding: 14px 20px 16px;
  font-size: var(--t-s);
  display: grid;
  gap: 8px;
}
h2 {
  font-size: var(--t-l);
  font-weight: 680;
}
.ends {
  display: flex;
  gap: 14px;
  align-items: center;
}
</style>
